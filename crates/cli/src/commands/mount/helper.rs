//! The program under the name that mount(8) looks for: `mount.fuse.zinc-sieve SOURCE DIR -o OPTIONS`, for a line of
//! /etc/fstab. The source is the pool file, with `#VOLUME` behind it where there are several.

use std::ffi::OsString;
use std::path::Path;

/// The arguments as this program takes them; nothing where it was called by another name.
pub(crate) fn as_mount_helper(arguments: &[OsString]) -> Option<Vec<OsString>> {
    let name = Path::new(arguments.first()?).file_name()?.to_str()?;
    if !name.starts_with("mount.") {
        return None;
    }
    let mut words = Vec::new();
    let mut options = String::new();
    let mut rest = arguments[1..].iter();
    while let Some(word) = rest.next() {
        match word.to_str() {
            Some("-o") => options = rest.next()?.to_str()?.to_string(),
            Some(flag) if flag.starts_with('-') => {}
            _ => words.push(word.clone()),
        }
    }
    let [source, at] = &words[..] else { return None };
    let source = source.to_str()?;
    let (file, volume) = match source.rsplit_once('#') {
        Some((file, volume)) => (file, Some(volume)),
        None => (source, None),
    };
    let mut call: Vec<OsString> = vec![arguments[0].clone(), "--pool".into(), file.into(), "mount".into()];
    for option in options.split(',') {
        match option {
            "ro" => call.push("--read-only".into()),
            "no-xattr" | "owner-only" => call.push(format!("--{option}").into()),
            // What else stands there is for the service manager, or is so anyway.
            _ => {}
        }
    }
    call.extend(volume.map(OsString::from));
    call.push(at.clone());
    Some(call)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_the_table_of_mounts_becomes_a_call() {
        let given = [
            "/sbin/mount.fuse.zinc-sieve",
            "/etc/pool.toml#recordings",
            "/srv/r",
            "-o",
            "ro,nofail,no-xattr",
        ];
        let given: Vec<OsString> = given.map(OsString::from).to_vec();
        let call = as_mount_helper(&given).unwrap();
        let expected =
            ["--pool", "/etc/pool.toml", "mount", "--read-only", "--no-xattr", "recordings", "/srv/r"];
        assert_eq!(call[1..], expected.map(OsString::from));
        assert_eq!(as_mount_helper(&["zinc-sieve".into(), "status".into()]), None);
    }
}
