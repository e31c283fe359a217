//! A program that gets each event as JSON on its standard input.

use std::io::Write;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::words::Failure;

/// A program that takes longer is ended: the work goes on.
const PATIENCE: Duration = Duration::from_secs(30);

pub(super) fn tell(command: &[String], document: &str) -> Result<(), Failure> {
    let [program, arguments @ ..] = command else { return Err("there is no program".into()) };
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|e| format!("{program}: {e}"))?;
    if let Some(mut input) = child.stdin.take() {
        // Who ends without reading has been told enough.
        let _ = writeln!(input, "{document}");
    }
    let begun = Instant::now();
    loop {
        match child.try_wait().map_err(|e| format!("{program}: {e}"))? {
            Some(status) if status.success() => return Ok(()),
            Some(status) => return Err(format!("{program}: {status}")),
            None if begun.elapsed() > PATIENCE => {
                // One that has ended by now is waited for all the same.
                let _ = child.kill();
                let _ = child.wait();
                return Err(format!("{program} took longer than {} seconds", PATIENCE.as_secs()));
            }
            None => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}
