/// Aliases of points are their indices; those of the node's own metrics start here.
pub(crate) const FIRST_OWN_ALIAS: u64 = 1 << 32;
/// The aliases of the devices' results of commands start here, by slot.
pub(super) const FIRST_RESULT_ALIAS: u64 = 1 << 33;
