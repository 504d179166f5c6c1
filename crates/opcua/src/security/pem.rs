use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;

/// What stands between the marks of some kind in a text, each decoded: `CERTIFICATE`, `X509 CRL`. `None` where one is cut or
/// changed.
#[must_use]
pub fn pem_blocks(text: &str, kind: &str) -> Option<Vec<Vec<u8>>> {
    let (begin, end) = (format!("-----BEGIN {kind}-----"), format!("-----END {kind}-----"));
    let (mut blocks, mut rest) = (Vec::new(), text);
    while let Some((_, block)) = rest.split_once(&begin) {
        let (letters, after) = block.split_once(&end)?;
        let letters: String = letters.chars().filter(|letter| !letter.is_whitespace()).collect();
        blocks.push(BASE64.decode(letters).ok()?);
        rest = after;
    }
    Some(blocks)
}

/// Bytes between marks of a kind, in lines of 64 letters.
///
/// Source: RFC 7468, section 2.
#[must_use]
pub fn to_pem(bytes: &[u8], kind: &str) -> String {
    let letters = BASE64.encode(bytes);
    let lines: Vec<_> = letters.as_bytes().chunks(64).map(String::from_utf8_lossy).collect();
    format!("-----BEGIN {kind}-----\n{}\n-----END {kind}-----\n", lines.join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_between_marks_is_read_back() {
        let (one, two) = (vec![7; 100], vec![1, 2, 3]);
        let text = format!("a chain\n{}{}", to_pem(&one, "CERTIFICATE"), to_pem(&two, "CERTIFICATE"));
        let text = format!("{}{text}", to_pem(&[9], "X509 CRL")).replace('\n', "\r\n");
        assert_eq!(pem_blocks(&text, "CERTIFICATE"), Some(vec![one, two]));
        assert_eq!(pem_blocks(&text, "X509 CRL"), Some(vec![vec![9]]));
        assert_eq!(pem_blocks("nothing", "CERTIFICATE"), Some(Vec::new()));
        for cut in ["-----BEGIN CERTIFICATE-----\nAAAA", "-----BEGIN CERTIFICATE-----\n*\n-----END CERTIFICATE-----"] {
            assert_eq!(pem_blocks(cut, "CERTIFICATE"), None);
        }
    }
}
