//! Whom files may be given to: who is not the superuser makes files of its own only.

use std::sync::LazyLock;

/// The bit of the right to give files away, `CAP_CHOWN` in capabilities(7).
const GIVES: u64 = 1;

static MAY_GIVE: LazyLock<bool> = LazyLock::new(|| {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    effective(&status).map_or_else(|| rustix::process::geteuid().is_root(), |rights| rights & GIVES != 0)
});

/// The rights that a process has now, by what the kernel says of it.
fn effective(status: &str) -> Option<u64> {
    let hex = status.lines().find_map(|line| line.strip_prefix("CapEff:"))?;
    u64::from_str_radix(hex.trim(), 16).ok()
}

/// Whether a file that this process makes can become that user's.
pub(super) fn may_give_to(uid: u32) -> bool {
    *MAY_GIVE || rustix::process::geteuid().as_raw() == uid
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Name:\tx\nCapEff:\t000001ffffffffff\nCapBnd:\t0", Some(0x1ff_ffff_ffff))]
    #[case("CapEff:\t0000000000000000", Some(0))]
    #[case("CapPrm:\t0000000000000001", None)]
    #[case("CapEff:\tmany", None)]
    fn rights_are_read(#[case] status: &str, #[case] expected: Option<u64>) {
        assert_eq!(effective(status), expected);
    }
}
