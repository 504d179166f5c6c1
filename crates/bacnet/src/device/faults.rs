/// How a device misbehaves, or what it cannot do.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceFaults {
    /// It says nothing at all.
    pub is_silent: bool,
    /// It does not know ReadPropertyMultiple.
    pub refuses_multiple: bool,
    /// It aborts answers that are longer than this, whatever it says of itself.
    pub most_octets: Option<usize>,
    /// Answers that are longer than this are lost on their way.
    pub loses_above: Option<usize>,
    /// It has room for so many subscriptions.
    pub most_subscriptions: Option<usize>,
    /// It does not know subscriptions at all.
    pub refuses_subscriptions: bool,
    /// It takes subscriptions, and tells no changes.
    pub tells_nothing: bool,
    /// It gives results in another order than it was asked.
    pub reorders_results: bool,
    /// It cannot read its object list in one piece.
    pub lists_by_index: bool,
    /// What it makes of what is written to it.
    pub writes: Writes,
}

/// What a device makes of what is written to it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Writes {
    /// It takes it.
    #[default]
    Takes,
    /// It says no.
    Refuses,
    /// It says yes, and takes nothing.
    Ignores,
    /// It takes it, and says nothing.
    Swallows,
}
