//! Notices: told once, by every channel; a channel that fails is tried again and never stops the work.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::mpsc::{Receiver, channel};

use super::{DAY, FRIDAY, HOUR, bring, lab, run_at};

/// A stand-in for a server on this machine: each connection is handed to `serve`, and what it returns can be received.
fn server(serve: impl Fn(TcpStream) -> String + Send + 'static) -> (u16, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (port, (sender, receiver)) = (listener.local_addr().unwrap().port(), channel());
    std::thread::spawn(move || {
        for connection in listener.incoming().flatten() {
            if sender.send(serve(connection)).is_err() {
                break;
            }
        }
    });
    (port, receiver)
}

/// Speaks as a mail server does, and returns the mail.
fn take_mail(connection: TcpStream) -> String {
    let mut out = connection.try_clone().unwrap();
    let mut lines = BufReader::new(connection).lines();
    let mut said = String::new();
    write!(out, "220 post.fernhollow.example\r\n").unwrap();
    let mut in_mail = false;
    while let Some(Ok(line)) = lines.next() {
        said += &line;
        said.push('\n');
        let answer = match line.split(' ').next().unwrap_or("") {
            _ if in_mail && line == "." => {
                in_mail = false;
                "250 taken"
            }
            _ if in_mail => continue,
            "EHLO" | "HELO" => "250 post.fernhollow.example",
            "DATA" => {
                in_mail = true;
                "354 go on"
            }
            "QUIT" => {
                write!(out, "221 farewell\r\n").unwrap();
                break;
            }
            _ => "250 well",
        };
        write!(out, "{answer}\r\n").unwrap();
    }
    said
}

/// Speaks as a web server does, and returns the request.
fn take_post(mut connection: TcpStream) -> String {
    let mut reader = BufReader::new(connection.try_clone().unwrap());
    let (mut said, mut length) = (String::new(), 0);
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        if let Some(value) = line.to_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().unwrap();
        }
        said += &line;
        if line.trim().is_empty() {
            break;
        }
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).unwrap();
    write!(connection, "HTTP/1.1 204 No Content\r\ncontent-length: 0\r\n\r\n").unwrap();
    said + &String::from_utf8(body).unwrap()
}

fn away(lab: &sieve_testkit::Lab, disk: &str) {
    fs::rename(lab.disk(disk), lab.root().join("away")).unwrap();
}

fn back(lab: &sieve_testkit::Lab, disk: &str) {
    fs::rename(lab.root().join("away"), lab.disk(disk)).unwrap();
}

const JOB: &str = "[[agenda.job]]\ndo = \"verify\"\nwhen = \"first Sun of the month 04:00\"\n";

#[test]
fn a_missing_disk_is_told_once_by_every_channel_and_its_return_too() {
    let (mail, mails) = server(take_mail);
    let (post, posts) = server(take_post);
    let lab = lab(&format!(
        "{JOB}\n[notices]\nremind_after = \"3 days\"\n[[notices.channel]]\nkind = \"command\"\ncommand = [\"/bin/sh\", \"-c\", \"cat >> told\"]\n\
         [[notices.channel]]\nkind = \"mail\"\nserver = \"127.0.0.1:{mail}\"\nfrom = \"pool@fernhollow.example\"\nto = [\"keeper@fernhollow.example\"]\nplain = true\n\
         [[notices.channel]]\nkind = \"post\"\nurl = \"http://127.0.0.1:{post}/hook/secret\"\n"
    ));
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    bring(&lab, "beech", "0007.wav", &[7; 9000]);
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    let due = |at: i64| run_at(&lab, at, &["agenda", "--due"]);
    due(FRIDAY + HOUR);
    assert!(!lab.root().join("told").exists(), "there is nothing to tell");
    away(&lab, "beech");
    for hour in 2..6 {
        due(FRIDAY + hour * HOUR);
    }
    let told = || -> Vec<serde_json::Value> {
        let text = fs::read_to_string(lab.root().join("told")).unwrap();
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let of_beech = |told: &[serde_json::Value]| -> Vec<String> {
        let of = told.iter().filter(|event| event["code"] == "disk-missing:beech");
        of.map(|event| event["moment"].as_str().unwrap().to_string()).collect()
    };
    assert_eq!(of_beech(&told()), ["begins"]);
    due(FRIDAY + 4 * DAY);
    assert_eq!(of_beech(&told()), ["begins", "goes-on"]);
    back(&lab, "beech");
    due(FRIDAY + 4 * DAY + HOUR);
    due(FRIDAY + 4 * DAY + 2 * HOUR);
    assert_eq!(of_beech(&told()), ["begins", "goes-on", "ends"]);
    let mail = mails.recv().unwrap();
    assert!(mail.contains("RCPT TO:<keeper@fernhollow.example>"), "{mail}");
    assert!(mail.contains("act now") && mail.contains("zinc-sieve fate --lose beech"), "{mail}");
    let post = posts.recv().unwrap();
    assert!(
        post.starts_with("POST /hook/secret") && post.contains("\"code\":\"disk-missing:beech\""),
        "{post}"
    );
    let journal = run_at(&lab, FRIDAY + 5 * DAY, &["journal", "--kind", "notice", "--json"]).list();
    assert!(journal.as_array().unwrap().len() >= 3, "{journal}");
}

#[test]
fn a_channel_that_fails_is_told_in_the_journal_without_its_secret_and_tried_again() {
    let lab = lab(&format!(
        "{JOB}\n[[notices.channel]]\nkind = \"post\"\nurl = \"http://127.0.0.1:9/hook/secret\"\n"
    ));
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    bring(&lab, "beech", "0007.wav", &[7; 9000]);
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    away(&lab, "beech");
    let run = run_at(&lab, FRIDAY + HOUR, &["agenda", "--due"]).expect(&[0]);
    assert!(run.stderr.contains("channel post") && !run.stderr.contains("secret"), "{}", run.stderr);
    let journal = fs::read_to_string(lab.root().join(".zinc-sieve/journal.jsonl")).unwrap();
    assert!(journal.contains("127.0.0.1:9") && !journal.contains("secret"), "{journal}");
    let (port, posts) = server(take_post);
    lab.write_pool_file(&lab.pool_text().replace("127.0.0.1:9/", &format!("127.0.0.1:{port}/")));
    run_at(&lab, FRIDAY + 2 * HOUR, &["agenda", "--due"]).expect(&[0]);
    assert!(posts.recv().unwrap().contains("disk-missing:beech"), "what was not taken is sent again");
    let shown = run_at(&lab, FRIDAY + 2 * HOUR, &["notice", "--json"]).list();
    assert_eq!(shown[0]["since"], "2031-05-02T01:00:00Z", "{shown}");
}

#[test]
fn what_is_seen_or_muted_is_not_told_and_a_test_goes_through_every_channel() {
    let lab = lab(&format!(
        "{JOB}\n[[notices.channel]]\nkind = \"command\"\ncommand = [\"/bin/sh\", \"-c\", \"cat >> told\"]\n\
         [[notices.channel]]\nname = \"broken\"\nkind = \"command\"\ncommand = [\"/bin/false\"]\n"
    ));
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let test = run_at(&lab, FRIDAY, &["notice", "--test"]).expect(&[1]).stdout;
    assert!(test.contains("command: sent") && test.contains("broken: /bin/false"), "{test}");
    fs::remove_file(lab.root().join("told")).unwrap();
    away(&lab, "beech");
    run_at(&lab, FRIDAY, &["notice", "--mute", "disk-missing:beech", "2 days"]).expect(&[0]);
    run_at(&lab, FRIDAY + HOUR, &["agenda", "--due"]);
    assert!(!lab.root().join("told").exists());
    run_at(&lab, FRIDAY + 3 * DAY, &["agenda", "--due"]);
    assert!(fs::read_to_string(lab.root().join("told")).unwrap().contains("begins"));
    run_at(&lab, FRIDAY + 3 * DAY, &["notice", "--seen", "disk-missing:beech"]).expect(&[0]);
    run_at(&lab, FRIDAY + 30 * DAY, &["agenda", "--due"]);
    assert!(!fs::read_to_string(lab.root().join("told")).unwrap().contains("goes-on"));
    let wrong = run_at(&lab, FRIDAY, &["notice", "--seen", "disk-missing:beach"]).expect(&[2]).stderr;
    assert!(wrong.contains("did you mean `disk-missing:beech`"), "{wrong}");
}
