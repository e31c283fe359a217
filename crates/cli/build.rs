//! Tells the program which commit it was built from, and how.

use std::process::Command;

fn main() {
    let git = |arguments: &[&str]| {
        let output =
            Command::new("git").args(arguments).output().ok().filter(|output| output.status.success())?;
        Some(String::from_utf8_lossy(&output.stdout).trim().to_string())
    };
    let commit = git(&["rev-parse", "--short=12", "HEAD"]);
    let commit = commit.map_or("commit unknown".to_string(), |commit| format!("commit {commit}"));
    let of = |name: &str| std::env::var(name).unwrap_or_default();
    let target = format!("{}-{}", of("CARGO_CFG_TARGET_ARCH"), of("CARGO_CFG_TARGET_OS"));
    println!("cargo::rustc-env=ZINC_SIEVE_BUILD={commit}, {} build for {target}", of("PROFILE"));
    println!("cargo::rerun-if-changed=build.rs");
    // A commit or a checkout writes this.
    for log in git(&["rev-parse", "--git-path", "logs/HEAD"])
        .into_iter()
        .filter(|log| std::fs::exists(log).is_ok_and(|is| is))
    {
        println!("cargo::rerun-if-changed={log}");
    }
}
