//! The simulated field of the Alderfen biogas works, with faults that can be switched on.
