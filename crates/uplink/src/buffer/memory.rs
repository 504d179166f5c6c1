/// How many bytes may be in memory.
#[derive(Debug, Clone, Copy)]
pub(super) struct Memory {
    /// While the database takes them.
    pub(super) usual: usize,
    /// When it does not, or holds those of devices that cannot be born.
    pub(super) most: usize,
    /// With fewer, what is in the database only is fetched.
    pub(super) fetch_below: usize,
}

/// With what is beside it, an uplink stays below 64 MB: some 200,000 samples, or fewer messages.
pub(super) const MEMORY: Memory = Memory { usual: 16 << 20, most: 48 << 20, fetch_below: 8 << 20 };
