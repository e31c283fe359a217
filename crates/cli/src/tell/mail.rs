//! A mail, handed to a server.

use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{Message, SmtpTransport, Transport};
use sieve_core::notice::Event;
use sieve_core::pool::Channel;
use std::time::Duration;

use super::words::{Failure, headline, place};

/// The port at which servers take mail from programs (RFC 6409).
const SUBMISSION: u16 = 587;

pub(super) fn tell(channel: &Channel, event: &Event) -> Result<(), Failure> {
    let Channel::Mail { server, from, to, user, password_file, password_variable, plain } = channel else {
        return Err("this is no mail".into());
    };
    let (host, port) = host_and_port(server)?;
    let password = password(password_file.as_deref(), password_variable.as_deref())?;
    let secured = TlsParameters::new(host.clone()).map_err(|e| format!("{server}: {e}"))?;
    let tls = match (plain, &password) {
        (true, _) => Tls::None,
        // A password never goes over an open line unasked.
        (false, Some(_)) => Tls::Required(secured),
        (false, None) => Tls::Opportunistic(secured),
    };
    let mut transport = SmtpTransport::builder_dangerous(host.trim_matches(['[', ']']))
        .port(port)
        .tls(tls)
        .timeout(Some(Duration::from_secs(20)));
    if let (Some(user), Some(password)) = (user, password) {
        transport = transport.credentials(Credentials::new(user.clone(), password));
    }
    let message = message(from, to, event)?;
    transport
        .build()
        .send(&message)
        .map(|_| ())
        .map_err(|e| format!("{server}: {}", words_of(&e.to_string())))
}

/// Without Rust's "(os error N)".
fn words_of(error: &str) -> &str {
    error.split(" (os error").next().unwrap_or(error)
}

fn message(from: &str, to: &[String], event: &Event) -> Result<Message, Failure> {
    let address = |text: &str| text.parse().map_err(|e| format!("{text} is no address: {e}"));
    let mut builder = Message::builder()
        .from(address(from)?)
        .subject(format!("[{}] {}: {}", event.pool, event.condition.severity.words(), headline(event)))
        .header(ContentType::TEXT_PLAIN);
    for receiver in to {
        builder = builder.to(address(receiver)?);
    }
    builder.body(body(event)).map_err(|e| format!("the mail cannot be written: {e}"))
}

fn body(event: &Event) -> String {
    let since = crate::human::time::moment(event.since);
    let mut lines = vec![format!("{}.", headline(event)), String::new()];
    lines.extend(place(event).map(|place| format!("Disk:     {place}")));
    lines.push(format!("Severity: {}", event.condition.severity.words()));
    lines.push(format!("Since:    {since}"));
    lines.push(format!("Next:     {}", event.condition.command));
    lines.push(format!("\nNot to be told of it again: zinc-sieve notice --seen {}", event.condition.code));
    lines.join("\n") + "\n"
}

fn host_and_port(server: &str) -> Result<(String, u16), Failure> {
    match server.rsplit_once(':') {
        Some((host, port)) if !host.is_empty() && (!host.contains(':') || host.ends_with(']')) => {
            let port = port.parse().map_err(|_| format!("`{server}`: `{port}` is no port"))?;
            Ok((host.to_string(), port))
        }
        _ => Ok((server.to_string(), SUBMISSION)),
    }
}

/// The password, from a file of its owner's or from the environment; it is nowhere else.
fn password(file: Option<&str>, variable: Option<&str>) -> Result<Option<String>, Failure> {
    if let Some(file) = file {
        let text = std::fs::read_to_string(file).map_err(|e| format!("the password file {file}: {e}"))?;
        return Ok(Some(text.lines().next().unwrap_or("").to_string()));
    }
    match variable {
        None => Ok(None),
        Some(name) => std::env::var(name).map(Some).map_err(|_| format!("the environment has no {name}")),
    }
}
