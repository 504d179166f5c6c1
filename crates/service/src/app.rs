use crate::access::attempts::Attempts;
use crate::access::openings::Openings;
use crate::access::proxy::AddressRange;
use crate::draft::opened::{Base, OpenDraft};
use crate::draft::presence::Presence;
use crate::draft::uploads::Uploads;
use crate::draft::vault::Vault;
use crate::shown::orders::Orders;
use crate::shown::views::Views;
use crate::turns::Heavy;
use interlex_core::Timestamp;
use interlex_gateway::{Gateway, Memories, OwnIdentity, Running, Via, via, wall_clock};
use interlex_store::{AuditEntry, AuditTrail, Secret, SignedIn, Store};
use parking_lot::{Mutex, RwLock};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use tokio::sync::{Semaphore, watch};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// What all requests share.
#[derive(Debug)]
pub struct App {
    pub(crate) store: Store,
    pub(crate) trail: AuditTrail,
    /// Whether nothing is written to the field while the audit trail does not take entries.
    pub(crate) is_audit_required: bool,
    pub(crate) vault: Vault,
    /// What is remembered of the places in the field, and by what devices know this program.
    pub(crate) memories: Memories,
    pub(crate) gateways: RwLock<BTreeMap<String, Arc<Gateway>>>,
    /// Gateways whose active revision does not run, and why.
    pub(crate) failed: RwLock<BTreeMap<String, String>>,
    /// The drafts that were opened last, by gateway.
    pub(crate) drafts: Mutex<HashMap<String, Arc<OpenDraft>>>,
    /// When each was used last.
    pub(crate) drafts_used: Mutex<HashMap<String, Instant>>,
    /// The revisions that were looked at last, by gateway: mostly the active one.
    pub(crate) revisions: Mutex<HashMap<String, (u32, Base)>>,
    pub(crate) presence: Presence,
    pub(crate) uploads: Uploads,
    /// Whether the console is reached by TLS: its cookies then travel no other way.
    pub(crate) is_tls: bool,
    /// One activation at a time.
    pub(crate) activating: tokio::sync::Mutex<()>,
    pub(crate) database: RwLock<DatabaseState>,
    /// The one-time code of the first set-up, until somebody has used it.
    pub(crate) setup_code: Mutex<Option<String>>,
    pub(crate) attempts: Attempts,
    /// Who was seen signed in lately: they can go on watching while the database is away.
    pub(crate) seen: Mutex<HashMap<String, SignedIn>>,
    /// Moves when a right may have ended: whoever streams looks anew whether they may.
    pub(crate) rights: watch::Sender<u64>,
    /// Where requests are answered that take long.
    pub(crate) heavy: Heavy,
    /// Whoever shows many points waits for a turn at every piece: no more than one worker is busy with it.
    pub(crate) showing: Semaphore,
    /// Orders of very many points that somebody looks at.
    pub(crate) orders: Mutex<Orders>,
    /// What live streams show that follow what is in view.
    pub(crate) views: Views,
    /// Live streams, by person.
    pub(crate) live: Openings,
    /// Taps, by person: each is a connection to a broker, with what it sends.
    pub(crate) taps: Openings,
    /// Scans, by where their links lead.
    pub(crate) scans: Openings,
    /// Proxies whose word on where a request comes from is believed.
    pub(crate) trusted_proxies: Vec<AddressRange>,
    pub(crate) stop: CancellationToken,
}

/// Whether the database answers.
#[derive(Debug, Clone, serde::Serialize, utoipa::ToSchema)]
pub(crate) struct DatabaseState {
    /// Whether it answers.
    pub(crate) up: bool,
    /// Since when, in milliseconds since 1970 UTC.
    pub(crate) since: i64,
    /// What it said last when it did not.
    pub(crate) last_error: Option<String>,
}

/// So many sessions are remembered for the case that the database goes away.
const MOST_SEEN: usize = 1000;

impl App {
    pub(crate) fn new(
        store: Store,
        (vault, identity): (Vault, OwnIdentity),
        is_tls: bool,
        trusted_proxies: Vec<AddressRange>,
        stop: CancellationToken,
    ) -> std::io::Result<Self> {
        Ok(Self {
            heavy: Heavy::new(),
            showing: Semaphore::new(1),
            trail: AuditTrail::new(store.clone()),
            is_audit_required: false,
            store,
            vault,
            memories: Memories::new(identity),
            gateways: RwLock::default(),
            failed: RwLock::default(),
            drafts: Mutex::default(),
            drafts_used: Mutex::default(),
            revisions: Mutex::default(),
            presence: Presence::default(),
            uploads: Uploads::default(),
            is_tls,
            activating: tokio::sync::Mutex::default(),
            database: RwLock::new(DatabaseState { up: false, since: wall_clock().as_millis(), last_error: None }),
            setup_code: Mutex::default(),
            attempts: Attempts::default(),
            seen: Mutex::default(),
            rights: watch::Sender::new(0),
            orders: Mutex::default(),
            views: Views::default(),
            live: Openings::new("live streams", 32, 500),
            taps: Openings::new("taps", 4, 16),
            scans: Openings::new("scans of this link", 1, 16),
            trusted_proxies,
            stop,
        })
    }

    /// Where trials go.
    pub(crate) fn via(&self, running: Option<&Running>) -> Via {
        via(running, &self.memories)
    }

    /// All running gateways, by name.
    pub(crate) fn running(&self) -> Vec<Arc<Gateway>> {
        self.gateways.read().values().cloned().collect()
    }

    pub(crate) fn gateway(&self, name: &str) -> Option<Arc<Gateway>> {
        self.gateways.read().get(name).cloned()
    }

    /// Makes the one-time code of the first set-up.
    pub(crate) fn make_setup_code(&self) -> Result<(), getrandom::Error> {
        let secret = Secret::generate()?;
        // Forty bits: with five attempts in five minutes, guessing takes longer than the plant stands.
        let digits = secret.reveal().get(..10).unwrap_or_default().to_uppercase();
        let (left, right) = digits.split_at(5);
        let code = format!("{left}-{right}");
        *self.setup_code.lock() = Some(code);
        Ok(())
    }

    /// Remembers whether the database answers; tells whether that changed.
    pub(crate) fn note_database(&self, outcome: Result<(), String>, now: Timestamp) -> bool {
        let mut state = self.database.write();
        let changed = state.up != outcome.is_ok();
        if changed {
            (state.up, state.since) = (outcome.is_ok(), now.as_millis());
        }
        if let Err(error) = outcome {
            state.last_error = Some(error);
        }
        changed
    }

    pub(crate) fn remember(&self, secret: &str, who: &SignedIn) {
        let mut seen = self.seen.lock();
        if seen.len() >= MOST_SEEN {
            seen.clear();
        }
        seen.insert(secret.to_owned(), who.clone());
    }

    /// Forgets what somebody was seen to be allowed.
    pub(crate) fn forget(&self, person: &str) {
        self.seen.lock().retain(|_, who| who.name != person);
        self.rights_changed();
    }

    /// Some right may have ended.
    pub(crate) fn rights_changed(&self) {
        self.rights.send_modify(|count| *count += 1);
    }

    /// Appends to the audit trail. A database that is away must not undo what was done: it is logged instead.
    pub(crate) async fn audit(&self, entry: AuditEntry<'_>) {
        let entry = AuditEntry { at: wall_clock().as_millis(), ..entry };
        let AuditEntry { person, source, action, detail, gateway, object, .. } = entry;
        tracing::info!(target: "audit", person, source, action, detail, gateway, object, "audit");
        if let Err(error) = self.trail.add(&entry).await {
            tracing::error!(%error, person, action, "it waits for the audit trail");
        }
    }
}
