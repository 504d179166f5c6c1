use nix::pty::openpty;
use nix::sys::termios::{SetArg, cfmakeraw, tcgetattr, tcsetattr};
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use tokio::io::unix::AsyncFd;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// Our end of a serial line whose other end is a terminal device, for programs that open a port by its path.
#[derive(Debug)]
pub struct SerialLine {
    ours: AsyncFd<File>,
    path: PathBuf,
    /// Kept open, so that the line does not break when the program at the other end closes its port.
    _theirs: OwnedFd,
}

impl SerialLine {
    /// Opens a line.
    ///
    /// # Errors
    /// What the operating system says.
    pub fn open() -> io::Result<Self> {
        let pair = openpty(None, None)?;
        let mut settings = tcgetattr(&pair.slave)?;
        cfmakeraw(&mut settings);
        tcsetattr(&pair.slave, SetArg::TCSANOW, &settings)?;
        let path = nix::unistd::ttyname(&pair.slave)?;
        nix::fcntl::fcntl(&pair.master, nix::fcntl::FcntlArg::F_SETFL(nix::fcntl::OFlag::O_NONBLOCK))?;
        #[expect(
            deprecated,
            reason = "its successor takes unsafe code; a file keeps its descriptor open as long as it lives"
        )]
        let ours = AsyncFd::new(File::from(pair.master))?;
        Ok(Self { ours, path, _theirs: pair.slave })
    }

    /// The path that the other program opens.
    #[must_use]
    pub const fn path(&self) -> &PathBuf {
        &self.path
    }
}

impl AsyncRead for SerialLine {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        loop {
            let mut guard = ready!(self.ours.poll_read_ready(context))?;
            let free = buffer.initialize_unfilled();
            if let Ok(read) = guard.try_io(|file| file.get_ref().read(free)) {
                return Poll::Ready(read.map(|count| buffer.advance(count)));
            }
        }
    }
}

impl AsyncWrite for SerialLine {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        loop {
            let mut guard = ready!(self.ours.poll_write_ready(context))?;
            if let Ok(written) = guard.try_io(|file| file.get_ref().write(bytes)) {
                return Poll::Ready(written);
            }
        }
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}
