//! What lasts, in MariaDB: revisions, people, sessions, uplink state, journal, audit.
