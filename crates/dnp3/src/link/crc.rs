/// The check behind every block of a frame, the low octet to be sent first.
///
/// ```
/// // A reset of the link from station 1 to station 10, and its check.
/// assert_eq!(interlex_dnp3::crc(&[0x05, 0x64, 0x05, 0xC0, 0x0A, 0x00, 0x01, 0x00]), 0xACB1);
/// ```
///
/// Source: IEEE 1815-2012, section 9.2.4.3 and annex E: polynomial 3D65, reflected, inverted at the end.
#[must_use]
pub fn crc(octets: &[u8]) -> u16 {
    let check = octets.iter().fold(0, |check: u16, octet| {
        let [low, _] = (check ^ u16::from(*octet)).to_le_bytes();
        check >> 8 ^ TABLE.get(usize::from(low)).copied().unwrap_or_default()
    });
    !check
}

const TABLE: [u16; 256] = table();

#[expect(clippy::indexing_slicing, reason = "worked out by the compiler, which would see")]
const fn table() -> [u16; 256] {
    let (mut table, mut octet) = ([0; 256], 0_u16);
    while octet < 256 {
        let (mut check, mut bit) = (octet, 0);
        while bit < 8 {
            check = if check & 1 == 1 { check >> 1 ^ 0xA6BC } else { check >> 1 };
            bit += 1;
        }
        table[octet as usize] = check;
        octet += 1;
    }
    table
}
