//! A thin tokio driver: outstations that masters connect to over TCP, or that hang on any line of octets.

use crate::link::{Frame, FrameReader, LinkAddress, LinkFunction, Sender};
use crate::master::Now;
use crate::outstation::{Outstation, Process};
use crate::transport::{Assembler, Splitter};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::Notify;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;

/// Outstations behind one address, each with what is behind it.
#[derive(Debug)]
pub struct OutstationHost<P> {
    stations: Mutex<BTreeMap<LinkAddress, Hosted<P>>>,
    /// Something may have to be told now.
    changed: Notify,
    conversations: AtomicU64,
}

#[derive(Debug)]
struct Hosted<P> {
    outstation: Outstation,
    process: P,
    is_silent: bool,
    /// The conversation in which a master was heard last: it is spoken to there, and nowhere else.
    heard: BTreeMap<LinkAddress, u64>,
}

/// The largest fragment of a master that is taken.
const MOST_OCTETS: usize = 2048;
const READ_BYTES: usize = 4096;
/// When there are too many files open, others are waited for so long.
const PAUSE: Duration = Duration::from_millis(100);

#[expect(clippy::disallowed_methods, reason = "a driver reads the clock")]
fn now() -> Now {
    let wall = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Now { instant: Instant::now().into_std(), wall: u64::try_from(wall.as_millis()).unwrap_or(u64::MAX) }
}

impl<P: Process + Send + 'static> OutstationHost<P> {
    /// One with these outstations.
    #[must_use]
    pub fn new(stations: impl IntoIterator<Item = (LinkAddress, Outstation, P)>) -> Arc<Self> {
        let hosted = |(address, outstation, process)| {
            (address, Hosted { outstation, process, is_silent: false, heard: BTreeMap::new() })
        };
        Arc::new(Self {
            stations: Mutex::new(stations.into_iter().map(hosted).collect()),
            changed: Notify::new(),
            conversations: AtomicU64::new(0),
        })
    }

    /// Does something with an outstation and with what is behind it; nothing where there is no such one.
    pub fn with<T>(&self, address: LinkAddress, act: impl FnOnce(&mut Outstation, &mut P, Now) -> T) -> Option<T> {
        let done = self
            .stations
            .lock()
            .get_mut(&address)
            .map(|hosted| act(&mut hosted.outstation, &mut hosted.process, now()));
        self.changed.notify_waiters();
        done
    }

    /// An outstation hears and says nothing, or does again.
    pub fn silence(&self, address: LinkAddress, is_silent: bool) {
        if let Some(hosted) = self.stations.lock().get_mut(&address) {
            hosted.is_silent = is_silent;
        }
        self.changed.notify_waiters();
    }

    /// Takes connections until `stop` is cancelled, and ends them then.
    ///
    /// # Errors
    /// When no connection can be taken any more.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, stop: CancellationToken) -> io::Result<()> {
        loop {
            let accepted = tokio::select! {
                accepted = listener.accept() => accepted,
                () = stop.cancelled() => return Ok(()),
            };
            match accepted {
                Ok((stream, _)) => {
                    let host = Arc::clone(&self);
                    // A master that goes ends its connection alone.
                    let conversation = async move {
                        stream.set_nodelay(true)?;
                        host.converse(stream).await
                    };
                    tokio::spawn(stop.clone().run_until_cancelled_owned(conversation));
                }
                Err(error) if error.kind() == io::ErrorKind::ConnectionAborted => {}
                Err(_) => sleep(PAUSE).await,
            }
        }
    }

    /// Answers whoever speaks on a line, until that ends.
    ///
    /// # Errors
    /// When the line fails.
    pub async fn converse(&self, mut line: impl AsyncRead + AsyncWrite + Unpin) -> io::Result<()> {
        let number = self.conversations.fetch_add(1, Ordering::Relaxed);
        let mut conversation = Conversation { number, ..Conversation::default() };
        let mut incoming = vec![0; READ_BYTES];
        let ended = loop {
            let changed = self.changed.notified();
            let mut outgoing = Vec::new();
            let due = self.speak(&mut conversation, &mut outgoing);
            if let Err(error) = line.write_all(&outgoing).await {
                break Err(error);
            }
            tokio::select! {
                length = line.read(&mut incoming) => match length {
                    Ok(0) => break Ok(()),
                    Ok(length) => self.hear(&mut conversation, incoming.get(..length).unwrap_or_default()),
                    Err(error) => break Err(error),
                },
                () = changed => {}
                () = until(due) => {}
            }
        };
        let mut stations = self.stations.lock();
        for (address, master) in conversation.pairs.keys() {
            // A master that has come again by another connection is not gone.
            if let Some(hosted) = stations.get_mut(address).filter(|hosted| hosted.heard.get(master) == Some(&number)) {
                hosted.outstation.disconnected(*master);
                hosted.heard.remove(master);
            }
        }
        ended
    }

    fn hear(&self, conversation: &mut Conversation, octets: &[u8]) {
        let (mut stations, now) = (self.stations.lock(), now());
        conversation.reader.push(octets);
        while let Some(found) = conversation.reader.next_frame() {
            // What is no frame is nobody's.
            let Ok(frame) = found else { continue };
            if frame.sender != Sender::Master {
                continue;
            }
            let is_broadcast = frame.destination.is_broadcast();
            let meant = stations.iter_mut().filter(|(address, _)| is_broadcast || **address == frame.destination);
            for (address, hosted) in meant.filter(|(_, hosted)| !hosted.is_silent) {
                conversation.take(*address, &frame, is_broadcast, hosted, now);
            }
        }
    }

    /// What is to be said now, and until when there is nothing more.
    fn speak(&self, conversation: &mut Conversation, out: &mut Vec<u8>) -> Option<std::time::Instant> {
        let (mut stations, now) = (self.stations.lock(), now());
        let mut due = None::<std::time::Instant>;
        for frame in conversation.replies.drain(..) {
            frame.encode(out);
        }
        for ((address, master), pair) in &mut conversation.pairs {
            let Some(hosted) = stations.get_mut(address) else { continue };
            if hosted.heard.get(master) != Some(&conversation.number) {
                continue;
            }
            hosted.outstation.handle_timeout(now, &mut hosted.process);
            while let Some(fragment) = hosted.outstation.poll_transmit_to(now, *master) {
                if hosted.is_silent || !hosted.process.is_answered() {
                    continue;
                }
                for user_data in pair.splitter.split(&fragment) {
                    let function = LinkFunction::UnconfirmedUserData;
                    let (sender, destination, source) = (Sender::Outstation, *master, *address);
                    Frame { sender, function, destination, source, user_data }.encode(out);
                }
            }
            due = hosted.outstation.poll_timeout().into_iter().chain(due).min();
        }
        due
    }
}

/// What goes over one connection.
#[derive(Debug, Default)]
struct Conversation {
    number: u64,
    reader: FrameReader,
    /// By outstation and master: whoever was heard here is answered here.
    pairs: BTreeMap<(LinkAddress, LinkAddress), Pair>,
    replies: Vec<Frame>,
}

#[derive(Debug)]
struct Pair {
    assembler: Assembler,
    splitter: Splitter,
    /// The count of the last confirmed frame.
    frame_count: Option<bool>,
}

impl Conversation {
    fn pair(&mut self, outstation: LinkAddress, master: LinkAddress) -> &mut Pair {
        let new = || Pair { assembler: Assembler::new(MOST_OCTETS), splitter: Splitter::default(), frame_count: None };
        self.pairs.entry((outstation, master)).or_insert_with(new)
    }

    fn take<P: Process>(
        &mut self,
        address: LinkAddress,
        frame: &Frame,
        is_broadcast: bool,
        hosted: &mut Hosted<P>,
        now: Now,
    ) {
        let reply = |function| {
            let (sender, destination, source) = (Sender::Outstation, frame.source, address);
            Frame { sender, function, destination, source, user_data: Vec::new() }
        };
        match frame.function {
            LinkFunction::RequestLinkStatus => {
                return self.replies.push(reply(LinkFunction::LinkStatus { is_full: false }));
            }
            LinkFunction::ResetLinkStates => {
                self.pair(address, frame.source).frame_count = None;
                return self.replies.push(reply(LinkFunction::Ack { is_full: false }));
            }
            LinkFunction::TestLinkStates { .. } => {
                return self.replies.push(reply(LinkFunction::Ack { is_full: false }));
            }
            LinkFunction::ConfirmedUserData { frame_count } => {
                self.replies.push(reply(LinkFunction::Ack { is_full: false }));
                // The same once more, since our answer was lost.
                if self.pair(address, frame.source).frame_count.replace(frame_count) == Some(frame_count) {
                    return;
                }
            }
            LinkFunction::UnconfirmedUserData => {}
            _ => return,
        }
        // By another connection a master begins anew; the one before is not heard until that has ended.
        match hosted.heard.insert(frame.source, self.number) {
            Some(before) if before > self.number => {
                hosted.heard.insert(frame.source, before);
                return;
            }
            Some(before) if before < self.number => hosted.outstation.disconnected(frame.source),
            _ => {}
        }
        let pair = self.pair(address, frame.source);
        if let Ok(Some(fragment)) = pair.assembler.push(&frame.user_data) {
            let Hosted { outstation, process, .. } = hosted;
            outstation.handle_fragment(now, frame.source, is_broadcast, &fragment, process);
        }
    }
}

async fn until(due: Option<std::time::Instant>) {
    match due {
        Some(due) => sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}
