use super::Binary;
use super::error::{DecodeError, Fault};

/// What is taken of a message, whatever its lengths say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of a string or byte string.
    pub string: usize,
    /// Elements of an array.
    pub array: usize,
    /// Bytes of memory that all arrays of the message take together: a byte on the wire may become fifty in memory.
    pub memory: usize,
    /// How deep variants and diagnostics may stand in each other. OPC 10000-6, section 5.2.2.16, wants 100 at least.
    pub depth: u16,
}

impl Default for Limits {
    /// Strings and arrays as large as a message, 32 MB in all: half of what a single sender may take of us.
    fn default() -> Self {
        Self { string: 16 << 20, array: 1 << 20, memory: 32 << 20, depth: 100 }
    }
}

/// Reads values from bytes of others, and cannot be made to read beyond them.
#[derive(Debug)]
pub struct Reader<'a> {
    rest: &'a [u8],
    all: usize,
    limits: Limits,
    memory: usize,
    depth: u16,
}

impl<'a> Reader<'a> {
    /// A reader at the first of these bytes.
    #[must_use]
    pub const fn new(bytes: &'a [u8], limits: Limits) -> Self {
        Self { rest: bytes, all: bytes.len(), limits, memory: limits.memory, depth: 0 }
    }

    /// What has not been read.
    #[must_use]
    pub const fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// How many bytes lie before what comes next.
    pub(crate) const fn at(&self) -> usize {
        self.all - self.rest.len()
    }

    /// An error about what comes next.
    #[must_use]
    pub const fn fault(&self, fault: Fault) -> DecodeError {
        DecodeError { field: None, at: self.at(), fault }
    }

    /// The next bytes.
    ///
    /// # Errors
    /// When there are not so many.
    pub fn take(&mut self, count: usize) -> Result<&'a [u8], DecodeError> {
        let Some((taken, rest)) = self.rest.split_at_checked(count) else {
            return Err(self.cut(count));
        };
        self.rest = rest;
        Ok(taken)
    }

    #[inline]
    pub(crate) fn take_array<const N: usize>(&mut self) -> Result<[u8; N], DecodeError> {
        let Some((taken, rest)) = self.rest.split_first_chunk() else { return Err(self.cut(N)) };
        self.rest = rest;
        Ok(*taken)
    }

    #[cold]
    fn cut(&self, wanted: usize) -> DecodeError {
        self.fault(Fault::Cut { missing: wanted.saturating_sub(self.rest.len()) })
    }

    /// The bytes of a string or byte string; `None` for null.
    ///
    /// Source: OPC 10000-6, sections 5.2.2.4 and 5.2.2.7.
    pub(crate) fn take_string(&mut self) -> Result<Option<&'a [u8]>, DecodeError> {
        let most = self.limits.string;
        self.take_length(most)?.map(|length| self.take(length)).transpose()
    }

    /// The elements of an array; `None` for null.
    ///
    /// Source: OPC 10000-6, section 5.2.5.
    pub(crate) fn take_elements<T: Binary>(&mut self) -> Result<Option<Vec<T>>, DecodeError> {
        self.take_count()?.map(|count| self.take_all(count)).transpose()
    }

    /// So many elements, which are there as far as [`Reader::take_count`] can tell.
    pub(crate) fn take_all<T: Binary>(&mut self, count: usize) -> Result<Vec<T>, DecodeError> {
        self.spend(count.saturating_mul(size_of::<T>()))?;
        let mut elements = Vec::with_capacity(count);
        for _ in 0..count {
            elements.push(T::decode(self)?);
        }
        Ok(elements)
    }

    /// So many bytes of memory are going to be taken.
    pub(crate) fn spend(&mut self, bytes: usize) -> Result<(), DecodeError> {
        self.memory = self.memory.checked_sub(bytes).ok_or_else(|| self.fault(Fault::TooLarge(self.limits.memory)))?;
        Ok(())
    }

    /// How many elements an array has of which each takes a byte at the least; `None` for null.
    pub(crate) fn take_count(&mut self) -> Result<Option<usize>, DecodeError> {
        let most = self.limits.array;
        match self.take_length(most)? {
            Some(count) if count > self.rest.len() => Err(self.fault(Fault::Cut { missing: count - self.rest.len() })),
            other => Ok(other),
        }
    }

    #[inline]
    fn take_length(&mut self, most: usize) -> Result<Option<usize>, DecodeError> {
        let at = self.at();
        let length = i32::decode(self)?;
        let fault = |fault| DecodeError { field: None, at, fault };
        match usize::try_from(length) {
            Ok(length) if length > most => Err(fault(Fault::TooLong { length, most })),
            Ok(length) => Ok(Some(length)),
            Err(_) if length == -1 => Ok(None),
            Err(_) => Err(fault(Fault::Length(length))),
        }
    }

    /// Reads something that stands in another one of its kind.
    #[inline]
    pub(crate) fn deeper<T>(
        &mut self,
        read: impl FnOnce(&mut Self) -> Result<T, DecodeError>,
    ) -> Result<T, DecodeError> {
        let depth = self.deepen()?;
        let value = read(self);
        self.rise(depth);
        value
    }

    /// What comes stands in something of its kind; gives how deep that stands, for [`Reader::rise`].
    pub(crate) const fn deepen(&mut self) -> Result<u16, DecodeError> {
        if self.depth >= self.limits.depth {
            return Err(self.fault(Fault::TooDeep(self.limits.depth)));
        }
        let depth = self.depth;
        self.depth += 1;
        Ok(depth)
    }

    /// What stood in something of its kind is read.
    pub(crate) const fn rise(&mut self, depth: u16) {
        self.depth = depth;
    }

    /// Reads other bytes that stand in these, within what may still be taken.
    pub(crate) fn within<T, E: From<DecodeError>>(
        &mut self,
        bytes: &[u8],
        read: impl FnOnce(&mut Reader<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let depth = self.deepen()?;
        let (all, limits, memory) = (bytes.len(), self.limits, self.memory);
        let mut inner = Reader { rest: bytes, all, limits, memory, depth: self.depth };
        let value = read(&mut inner);
        (self.memory, self.depth) = (inner.memory, depth);
        value
    }

    /// Nothing may be left.
    ///
    /// # Errors
    /// When something is.
    pub fn finish(&self) -> Result<(), DecodeError> {
        if self.rest.is_empty() { Ok(()) } else { Err(self.fault(Fault::LeftOver(self.rest.len()))) }
    }
}
