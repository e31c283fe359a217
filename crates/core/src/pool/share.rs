//! Shares, as they are written in a pool file.

use super::Share;

pub(super) fn read_share(text: &str) -> Result<Share, String> {
    Share::parse(text).ok_or_else(|| format!("`{text}` is not a share: write \"50 %\""))
}
