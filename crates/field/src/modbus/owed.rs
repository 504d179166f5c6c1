use interlex_modbus::{Connection, OwedAnswers};
use parking_lot::Mutex;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;

/// The answers that a line still owes while nobody is connected to it.
pub(super) type Owed = Mutex<OwedAnswers>;

/// A connection that leaves behind what it is owed.
pub(super) struct Carried {
    connection: Connection,
    owed: Arc<Owed>,
}

impl Carried {
    /// A connection that goes on where the last one to the same line ended.
    pub(super) fn new(owed: Arc<Owed>, connection: Connection) -> Self {
        let before = std::mem::take(&mut *owed.lock());
        Self { connection: connection.with_owed(before), owed }
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
