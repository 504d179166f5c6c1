use tokio::runtime::{Handle, RuntimeFlavor};

/// Computes something long in place, while other workers take over what else this one has to do.
pub fn aside<T>(work: impl FnOnce() -> T) -> T {
    let has_workers = Handle::try_current().is_ok_and(|handle| handle.runtime_flavor() == RuntimeFlavor::MultiThread);
    if has_workers { tokio::task::block_in_place(work) } else { work() }
}
