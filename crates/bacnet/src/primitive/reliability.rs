use interlex_bacnet_names::RELIABILITIES;

/// The standard's word for why a value is not to be trusted, by its number: `open-loop` for 4.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetReliability).
#[must_use]
pub fn reliability(number: u32) -> Option<&'static str> {
    RELIABILITIES.of(number)
}
