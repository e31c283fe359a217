//! What mounts a volume when the machine starts: printed, never installed.

use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::UnixDatagram;
use std::path::Path;

use sieve_disk::{Error, Result};
use sieve_pool::pool::Pool;

use super::arguments::MountArguments;
use crate::commands::unit::{escaped, quoted};

/// The folders of the members of a volume, parity among them: a mounted volume reads from it what is not there.
fn places<'a>(pool: &'a Pool, volume: &'a str) -> impl Iterator<Item = &'a str> {
    let of_volume = pool.members.iter().filter(move |member| member.row.volume == volume);
    of_volume.filter_map(|member| member.spec.as_ref()?.path.as_deref())
}

fn options(wanted: &MountArguments) -> impl Iterator<Item = &'static str> + use<> {
    let options = [
        (wanted.read_only, "--read-only"),
        (wanted.no_xattr, "--no-xattr"),
        (wanted.owner_only, "--owner-only"),
    ];
    options.into_iter().filter_map(|(is_wanted, option)| is_wanted.then_some(option))
}

/// A service unit. The disks are wanted and not required: with one of them missing the volume is served without it.
pub(super) fn unit(pool: &Pool, volume: &str, at: &Path, wanted: &MountArguments) -> Result<String> {
    let program =
        std::env::current_exe().map_err(|e| Error::io("mount.program", Path::new("/proc/self/exe"), e))?;
    let (program, file) = (quoted(&program), quoted(&pool.file));
    let home = quoted(sieve_pool::pool::home_folder(&pool.file));
    let mounts: Vec<String> = places(pool, volume).map(|place| format!("{}.mount", escaped(place))).collect();
    let options: String = options(wanted).map(|option| format!(" {option}")).collect();
    let (name, mounts, at) = (quoted(Path::new(volume)), mounts.join(" "), quoted(at));
    Ok(format!(
        "# Save as /etc/systemd/system/zinc-sieve-{unit}.service, then: systemctl enable --now zinc-sieve-{unit}\n\
         [Unit]\n\
         Description=Volume {volume} as one drive\n\
         RequiresMountsFor={home}\n\
         # Wanted, not required: with a disk missing the volume is served from the others and from parity.\n\
         Wants={mounts}\n\
         After={mounts} local-fs.target\n\
         \n\
         [Service]\n\
         # Ready when the labels of the disks were looked at and the volume can be used.\n\
         Type=notify\n\
         NotifyAccess=main\n\
         # What a process left that died.\n\
         ExecStartPre=-/bin/umount --lazy {at}\n\
         ExecStart={program} --pool {file} mount --foreground{options} {name} {at}\n\
         ExecStop={program} --pool {file} umount {at}\n\
         Restart=on-failure\n\
         LimitNOFILE=infinity\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n",
        unit = escaped(volume),
    ))
}

/// A line for /etc/fstab.
pub(super) fn fstab(pool: &Pool, volume: &str, at: &Path, wanted: &MountArguments) -> String {
    let source = spaceless(&format!("{}#{volume}", pool.file.display()));
    let mut options = vec!["nofail".to_string(), "_netdev".to_string()];
    options.extend(self::options(wanted).map(|option| match option {
        "--read-only" => "ro".to_string(),
        other => other.trim_start_matches('-').to_string(),
    }));
    options
        .extend(places(pool, volume).map(|place| format!("x-systemd.wants-mounts-for={}", spaceless(place))));
    format!(
        "# mount(8) runs mount.fuse.zinc-sieve for it: ln -s \"$(command -v zinc-sieve)\" /sbin/mount.fuse.zinc-sieve\n\
         {source} {} fuse.zinc-sieve {} 0 0\n",
        spaceless(&at.display().to_string()),
        options.join(",")
    )
}

/// Spaces end a field of that file.
fn spaceless(text: &str) -> String {
    text.replace('\\', "\\134").replace(' ', "\\040").replace('\t', "\\011").replace('\n', "\\012")
}

/// Tells the service manager that started this process that the volume can be used.
pub(super) fn tell_service_manager() {
    let Some(address) = std::env::var_os("NOTIFY_SOCKET") else { return };
    let Ok(socket) = UnixDatagram::unbound() else { return };
    // Who started it without listening learns of it by using the volume.
    let _ = match address.as_bytes().strip_prefix(b"@") {
        Some(name) => {
            use std::os::linux::net::SocketAddrExt;
            std::os::unix::net::SocketAddr::from_abstract_name(name)
                .and_then(|address| socket.send_to_addr(b"READY=1", &address))
        }
        None => socket.send_to(b"READY=1", &address),
    };
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/mnt/alder", "mnt-alder")]
    #[case("/mnt/my-disk", "mnt-my\\x2ddisk")]
    #[case("/mnt/a b", "mnt-a\\x20b")]
    fn units_of_mounts_are_named_as_the_service_manager_names_them(#[case] path: &str, #[case] unit: &str) {
        assert_eq!(escaped(path), unit);
    }

    #[test]
    fn what_has_a_meaning_in_a_unit_or_a_table_is_escaped() {
        assert_eq!(quoted(Path::new("/srv/100 %")), "\"/srv/100 %%\"");
        assert_eq!(spaceless("/srv/one drive"), "/srv/one\\040drive");
    }
}
