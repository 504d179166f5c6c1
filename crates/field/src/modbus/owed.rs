use interlex_modbus::{Connection, OwedAnswers};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;

/// The answers that lines still owe, by where the lines lead: they outlive connections, and links that are started anew.
#[derive(Debug, Clone, Default)]
pub struct OwedByTarget {
    /// As many as there were ever targets; each is a few bytes.
    targets: Arc<Mutex<HashMap<String, Owed>>>,
}

/// Those of one line while nobody is connected to it.
pub(crate) type Owed = Arc<Mutex<OwedAnswers>>;

/// A connection that leaves behind what it is owed.
pub(crate) struct Carried {
    connection: Connection,
    owed: Owed,
}

impl OwedByTarget {
    pub(crate) fn of(&self, target: &str) -> Owed {
        Arc::clone(self.targets.lock().entry(target.to_owned()).or_default())
    }

    /// A connection that goes on where the last one to the same line ended.
    pub(crate) fn carry(owed: &Owed, connection: Connection) -> Carried {
        let before = std::mem::take(&mut *owed.lock());
        Carried { connection: connection.with_owed(before), owed: Arc::clone(owed) }
    }
}

impl Drop for Carried {
    fn drop(&mut self) {
        *self.owed.lock() = self.connection.take_owed();
    }
}

impl Deref for Carried {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        &self.connection
    }
}

impl DerefMut for Carried {
    fn deref_mut(&mut self) -> &mut Connection {
        &mut self.connection
    }
}
