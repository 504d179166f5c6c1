//! Files that a description names, such as certificates: read from some directories only, and never more than a little.

use parking_lot::RwLock;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read};
use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::time::timeout;

/// Directories that descriptions may name files of; whoever runs the service adds others.
static DIRECTORIES: RwLock<Vec<PathBuf>> = RwLock::new(Vec::new());
const ALWAYS: &str = "/etc/interlex";

/// A certificate with its chain takes some kilobytes.
const LARGEST: u64 = 1 << 20;
/// A file system that does not answer holds nobody up for longer.
const TIME: Duration = Duration::from_secs(2);
/// Source: Linux, `open(2)`: a pipe or device is opened without waiting for its other end, and no link is followed.
const WITHOUT_WAITING: i32 = 0o4000 | 0o400_000;

/// Lets descriptions name files below a directory.
pub fn allow_files_in(directory: PathBuf) {
    let mut directories = DIRECTORIES.write();
    if !directories.contains(&directory) {
        directories.push(directory);
    }
}

/// The text of a file that a description names. What is wrong does not tell what else there is on this machine.
pub(super) async fn read_named(path: &str) -> Result<String, String> {
    let named = PathBuf::from(path);
    let reading = tokio::task::spawn_blocking(move || read(&named));
    let text = match timeout(TIME, reading).await {
        Ok(Ok(read)) => read.ok(),
        Ok(Err(_)) | Err(_) => None,
    };
    text.ok_or_else(|| {
        let directories = DIRECTORIES.read();
        let others = directories.iter().map(|directory| directory.display().to_string());
        let all: Vec<_> = others.chain([ALWAYS.to_owned()]).collect();
        format!("cannot be read: it has to be a text file of at most 1 MB below {}", all.join(" or "))
    })
}

fn read(path: &Path) -> io::Result<String> {
    let refused = || io::Error::from(io::ErrorKind::PermissionDenied);
    let allowed: Vec<_> = DIRECTORIES.read().iter().cloned().chain([ALWAYS.into()]).collect();
    let is_inside = |path: &Path| {
        allowed
            .iter()
            .filter_map(|directory| fs::canonicalize(directory).ok())
            .any(|directory| path.starts_with(directory))
    };
    // Links are followed here, and must not lead outside.
    let real = fs::canonicalize(path)?;
    if !path.is_absolute() || !is_inside(&real) {
        return Err(refused());
    }
    let file: File = OpenOptions::new().read(true).custom_flags(WITHOUT_WAITING).open(&real)?;
    // What was opened may be another file than what was looked at.
    let opened = fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd()))?;
    if !file.metadata()?.is_file() || !is_inside(&opened) {
        return Err(refused());
    }
    let mut text = String::new();
    file.take(LARGEST + 1).read_to_string(&mut text)?;
    if text.len() as u64 > LARGEST { Err(refused()) } else { Ok(text) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn only_small_text_files_of_some_directories_are_read_and_nothing_is_told_of_others() {
        let (inside, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        allow_files_in(inside.path().to_owned());
        let path = |name: &str| inside.path().join(name).display().to_string();
        fs::write(path("ca.pem"), "-----BEGIN").unwrap();
        fs::write(outside.path().join("secret"), "heron").unwrap();
        fs::write(path("large"), vec![b'x'; (1 << 20) + 1]).unwrap();
        std::os::unix::fs::symlink(path("ca.pem"), path("link")).unwrap();
        std::os::unix::fs::symlink(outside.path().join("secret"), path("way-out")).unwrap();
        std::os::unix::net::UnixListener::bind(path("socket")).unwrap();
        nix::unistd::mkfifo(path("pipe").as_str(), nix::sys::stat::Mode::S_IRWXU).unwrap();
        assert_eq!(read_named(&path("ca.pem")).await.as_deref(), Ok("-----BEGIN"));
        assert_eq!(read_named(&path("link")).await.as_deref(), Ok("-----BEGIN"));
        let elsewhere = outside.path().join("secret").display().to_string();
        let up = format!("{}/../{}/secret", inside.path().display(), outside.path().file_name().unwrap().display());
        let mut told = Vec::new();
        for wrong in [&path("way-out"), &path("large"), &path("socket"), &path("pipe"), &path("none"), &elsewhere, &up]
        {
            told.push(read_named(wrong).await.unwrap_err());
        }
        for device in ["/dev/zero", "/dev/ptmx", "/proc/self/environ", "ca.pem", "", "/etc/interlex/none"] {
            told.push(read_named(device).await.unwrap_err());
        }
        assert!(told.windows(2).all(|pair| pair[0] == pair[1]), "{told:?}");
    }
}
