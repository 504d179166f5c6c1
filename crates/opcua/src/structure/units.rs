use super::EUInformation;

/// Common codes of units with how they are written.
///
/// Source: UNECE Recommendation 20, revision 17, annexes I and II.
const COMMON: [(&str, &str); 72] = [
    ("CEL", "°C"),
    ("KEL", "K"),
    ("FAH", "°F"),
    ("PAL", "Pa"),
    ("A97", "hPa"),
    ("KPA", "kPa"),
    ("MPA", "MPa"),
    ("BAR", "bar"),
    ("MBR", "mbar"),
    ("PS", "psi"),
    ("MTR", "m"),
    ("CMT", "cm"),
    ("MMT", "mm"),
    ("4H", "µm"),
    ("KMT", "km"),
    ("MTK", "m²"),
    ("MTQ", "m³"),
    ("LTR", "l"),
    ("MLT", "ml"),
    ("MQH", "m³/h"),
    ("MQS", "m³/s"),
    ("E32", "l/h"),
    ("L2", "l/min"),
    ("G51", "l/s"),
    ("MTS", "m/s"),
    ("KMH", "km/h"),
    ("RPM", "r/min"),
    ("RPS", "r/s"),
    ("HTZ", "Hz"),
    ("KHZ", "kHz"),
    ("MHZ", "MHz"),
    ("SEC", "s"),
    ("C26", "ms"),
    ("MIN", "min"),
    ("HUR", "h"),
    ("DAY", "d"),
    ("GRM", "g"),
    ("KGM", "kg"),
    ("TNE", "t"),
    ("KGS", "kg/s"),
    ("E93", "kg/h"),
    ("KMQ", "kg/m³"),
    ("NEW", "N"),
    ("NU", "N·m"),
    ("JOU", "J"),
    ("KJO", "kJ"),
    ("3B", "MJ"),
    ("WHR", "W·h"),
    ("KWH", "kW·h"),
    ("MWH", "MW·h"),
    ("WTT", "W"),
    ("KWT", "kW"),
    ("MAW", "MW"),
    ("D46", "V·A"),
    ("KVA", "kV·A"),
    ("D44", "var"),
    ("KVR", "kvar"),
    ("VLT", "V"),
    ("2Z", "mV"),
    ("KVT", "kV"),
    ("AMP", "A"),
    ("4K", "mA"),
    ("OHM", "Ω"),
    ("P1", "%"),
    ("59", "ppm"),
    ("C62", "1"),
    ("DD", "°"),
    ("C81", "rad"),
    ("LUX", "lx"),
    ("2N", "dB"),
    ("Q30", "pH"),
    ("FAR", "F"),
];

impl EUInformation {
    /// How the unit is written: as the server says, else by its code.
    #[must_use]
    pub fn symbol(&self) -> Option<String> {
        let said = self.display_name.text.as_deref().filter(|text| !text.is_empty());
        said.map(str::to_owned).or_else(|| {
            let code = self.code()?;
            let known = COMMON.iter().find(|(known, _)| *known == code);
            Some(known.map_or(code, |(_, symbol)| (*symbol).to_owned()))
        })
    }

    /// The code of the United Nations: up to three letters and digits, which are the bytes of its number.
    ///
    /// Source: OPC 10000-8, section 5.6.3.3.
    fn code(&self) -> Option<String> {
        let uri = self.namespace_uri.as_deref().unwrap_or_default();
        let bytes = self.unit_id.to_be_bytes();
        let digits: Vec<u8> = bytes.into_iter().skip_while(|byte| *byte == 0).collect();
        let is_code = (1..=3).contains(&digits.len()) && digits.iter().all(u8::is_ascii_alphanumeric);
        (is_code && uri.ends_with("/UA/units/un/cefact")).then(|| String::from_utf8(digits).ok())?
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::LocalizedText;

    #[test]
    fn units_are_written_as_the_server_says_or_as_their_code_means() {
        let unit = |unit_id: i32, name: &str| {
            let namespace_uri = Some("http://www.opcfoundation.org/UA/units/un/cefact".to_owned());
            let display_name = LocalizedText { text: Some(name.to_owned()), locale: None };
            EUInformation { namespace_uri, unit_id, display_name, ..EUInformation::default() }.symbol()
        };
        // The numbers are those of the standard's list.
        assert_eq!(unit(4_408_652, ""), Some("°C".to_owned()));
        assert_eq!(unit(20_529, ""), Some("%".to_owned()));
        assert_eq!(unit(5_067_858, "Meter"), Some("Meter".to_owned()));
        assert_eq!(unit(5_918_552, ""), Some("ZOX".to_owned()), "one that is not known by heart");
        assert_eq!((unit(-1, ""), unit(0, "")), (None, None));
        let own = EUInformation { unit_id: 4_408_652, ..EUInformation::default() };
        assert_eq!(own.symbol(), None, "numbers of somebody else");
    }
}
