use crate::{ExceptionCode, InvalidRequest, MAX_PDU, ResponseError};

/// How much a device is asked to say about itself.
///
/// Source: MODBUS Application Protocol V1.1b3, section 6.21 (read device ID code).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum IdentifyAccess {
    /// Vendor, product code, revision.
    Basic,
    /// Also the vendor's address, the product's, model's and application's names.
    Regular,
    /// Also what the maker adds.
    Extended,
    /// One object.
    Individual,
}

impl IdentifyAccess {
    const fn code(self) -> u8 {
        match self {
            Self::Basic => 1,
            Self::Regular => 2,
            Self::Extended => 3,
            Self::Individual => 4,
        }
    }

    /// What the standard calls it.
    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::Basic => "basic",
            Self::Regular => "regular",
            Self::Extended => "extended",
            Self::Individual => "individual",
        }
    }

    /// The last object of the category.
    const fn last(self) -> u8 {
        match self {
            Self::Basic => 0x02,
            Self::Regular => 0x7F,
            Self::Extended | Self::Individual => 0xFF,
        }
    }
}

/// Asks a device who it is, from one object on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IdentifyRequest {
    /// How much.
    pub access: IdentifyAccess,
    /// From which object on, or which one.
    pub object: u8,
}

/// What a device says about itself, or a part of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identification {
    /// How much the device can say: 01 to 03, and 80 (hexadecimal) more when single objects can be asked for.
    pub conformity: u8,
    /// The object to go on with, when the answer did not hold everything.
    pub next: Option<u8>,
    /// Object id and value, mostly ASCII text.
    pub objects: Vec<(u8, Vec<u8>)>,
}

/// Read device identification.
const MEI_TYPE: u8 = 0x0E;
/// Function, MEI type, access, conformity, more follows, next object, number of objects.
const HEADER: usize = 7;

impl IdentifyRequest {
    pub(crate) const FUNCTION: u8 = 0x2B;

    pub(crate) const fn encode(self) -> [u8; 4] {
        [Self::FUNCTION, MEI_TYPE, self.access.code(), self.object]
    }

    pub(crate) fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        let size = InvalidRequest::Size { function: Self::FUNCTION, got: pdu.len(), wanted: 4 };
        let field = |field, value: u8| InvalidRequest::Field { field, value: value.into() };
        match *pdu.get(1..).unwrap_or_default() {
            [mei, ..] if mei != MEI_TYPE => Err(field("MEI type", mei)),
            [_, code, object] => {
                let access = [
                    IdentifyAccess::Basic,
                    IdentifyAccess::Regular,
                    IdentifyAccess::Extended,
                    IdentifyAccess::Individual,
                ];
                let access = access.into_iter().find(|access| access.code() == code);
                access.map(|access| Self { access, object }).ok_or(field("read device ID code", code))
            }
            _ => Err(size),
        }
    }

    /// Picks what answers this request out of all that a device says about itself, as much as fits one answer.
    ///
    /// ```
    /// use interlex_modbus::{ExceptionCode, IdentifyAccess, IdentifyRequest};
    ///
    /// let device = [(0, "Alderfen"), (1, "AF-7"), (2, "1.4"), (5, "Gas analyser")];
    /// let basic = IdentifyRequest { access: IdentifyAccess::Basic, object: 0 }.pick(0x82, &device)?;
    /// assert_eq!((basic.objects.len(), basic.next), (3, None), "vendor, product code and revision");
    /// let one = IdentifyRequest { access: IdentifyAccess::Individual, object: 5 }.pick(0x82, &device)?;
    /// assert_eq!(one.objects, [(5, b"Gas analyser".to_vec())]);
    /// # Ok::<(), ExceptionCode>(())
    /// ```
    ///
    /// # Errors
    /// Illegal data address when a single object is asked for that is not there.
    pub fn pick(&self, conformity: u8, all: &[(u8, &str)]) -> Result<Identification, ExceptionCode> {
        let has = |id: u8| all.iter().any(|(known, _)| *known == id);
        if self.access == IdentifyAccess::Individual {
            let object = all.iter().find(|(id, _)| *id == self.object).ok_or(ExceptionCode::ILLEGAL_DATA_ADDRESS)?;
            return Ok(Identification { conformity, next: None, objects: vec![(object.0, object.1.into())] });
        }
        // An object that is not there starts from the beginning (section 6.21).
        let first = if has(self.object) { self.object } else { 0 };
        let (mut objects, mut room) = (Vec::new(), MAX_PDU - HEADER);
        for (id, text) in all.iter().filter(|(id, _)| (first..=self.access.last()).contains(id)) {
            let Some(left) = room.checked_sub(2 + text.len()) else {
                return Ok(Identification { conformity, next: Some(*id), objects });
            };
            room = left;
            objects.push((*id, text.as_bytes().to_vec()));
        }
        Ok(Identification { conformity, next: None, objects })
    }

    pub(crate) fn encode_response(self, answer: &Identification, out: &mut Vec<u8>) {
        let more = if answer.next.is_some() { 0xFF } else { 0 };
        let count = u8::try_from(answer.objects.len()).unwrap_or(u8::MAX);
        let next = answer.next.unwrap_or_default();
        out.extend_from_slice(&[Self::FUNCTION, MEI_TYPE, self.access.code(), answer.conformity, more, next, count]);
        for (id, value) in &answer.objects {
            out.extend_from_slice(&[*id, u8::try_from(value.len()).unwrap_or(u8::MAX)]);
            out.extend_from_slice(value);
        }
    }

    pub(crate) fn decode_response(self, rest: &[u8]) -> Result<Identification, ResponseError> {
        let Some(([mei, access, conformity, more, next, count], mut rest)) = rest.split_first_chunk() else {
            return Err(ResponseError::Missing("number of objects"));
        };
        let echo = |field, got: u8, wanted: u8| match got == wanted {
            true => Ok(()),
            false => Err(ResponseError::Echo { field, got: got.into(), wanted: wanted.into() }),
        };
        echo("MEI type", *mei, MEI_TYPE)?;
        echo("read device ID code", *access, self.access.code())?;
        let mut objects = Vec::new();
        for _ in 0..*count {
            let [id, length, ..] = *rest else { return Err(ResponseError::Missing("object")) };
            let end = 2 + usize::from(length);
            objects.push((id, rest.get(2..end).ok_or(ResponseError::Missing("value of an object"))?.to_vec()));
            rest = rest.get(end..).unwrap_or_default();
        }
        if !rest.is_empty() {
            return Err(ResponseError::Trailing(rest.len()));
        }
        let next = (*more != 0).then_some(*next);
        match next.filter(|next| *next <= self.object) {
            Some(object) => Err(ResponseError::Endless(object)),
            None => Ok(Identification { conformity: *conformity, next, objects }),
        }
    }
}

/// How long the answer is that starts with unit and function; `None` until its last object has begun.
pub(crate) fn answer_length(frame: &[u8]) -> Option<usize> {
    let mut end = 1 + HEADER;
    for _ in 0..*frame.get(HEADER)? {
        end += 2 + usize::from(*frame.get(end + 1)?);
    }
    Some(end + 2)
}
