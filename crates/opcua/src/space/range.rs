use crate::address::NumericRange;
use crate::types::{Array, ByteString, Scalar, StatusCode, Variant};

/// The part of a value that a range means.
///
/// Source: OPC 10000-4, section 7.27.
pub(super) fn part(value: &Variant, range: &NumericRange) -> Result<Variant, StatusCode> {
    let no_data = StatusCode::BAD_INDEX_RANGE_NO_DATA;
    let [first, ..] = range.dimensions() else { return Err(StatusCode::BAD_INDEX_RANGE_INVALID) };
    match value {
        Variant::Array(elements) => {
            let places = places(&[elements.len()], range)?;
            Ok(Variant::Array(elements.pick(&places)))
        }
        Variant::Matrix(elements, dimensions) => {
            let lengths: Vec<_> = dimensions.iter().map(|length| usize::try_from(*length).unwrap_or(0)).collect();
            let places = places(&lengths, range)?;
            let lengths = clipped(&lengths, range).map(|(first, last)| i32::try_from(last - first + 1).unwrap_or(0));
            Ok(Variant::Matrix(elements.pick(&places), lengths.collect()))
        }
        Variant::Scalar(Scalar::String(Some(text))) if range.dimensions().len() == 1 => {
            let (first, count) = span(*first);
            let part: String = text.chars().skip(first).take(count).collect();
            if part.is_empty() { Err(no_data) } else { Ok(Variant::Scalar(Scalar::String(Some(part)))) }
        }
        Variant::Scalar(Scalar::ByteString(ByteString(Some(bytes)))) if range.dimensions().len() == 1 => {
            let (first, count) = span(*first);
            let part: Vec<_> = bytes.iter().skip(first).take(count).copied().collect();
            if part.is_empty() { Err(no_data) } else { Ok(Variant::Scalar(Scalar::ByteString(part.into()))) }
        }
        Variant::Null | Variant::Scalar(_) => Err(no_data),
    }
}

/// A value with another in the part that a range means, which has to be there as a whole.
pub(super) fn replaced(value: &Variant, range: &NumericRange, part: &Variant) -> Result<Variant, StatusCode> {
    let (no_data, mismatch) = (StatusCode::BAD_INDEX_RANGE_NO_DATA, StatusCode::BAD_INDEX_RANGE_DATA_MISMATCH);
    let mut replaced = value.clone();
    let (elements, lengths) = match &mut replaced {
        Variant::Array(elements) => {
            let length = elements.len();
            (elements, vec![length])
        }
        Variant::Matrix(elements, dimensions) => {
            let lengths = dimensions.iter().map(|length| usize::try_from(*length).unwrap_or(0)).collect();
            (elements, lengths)
        }
        Variant::Null | Variant::Scalar(_) => return Err(no_data),
    };
    let places = places(&lengths, range)?;
    if u64::try_from(places.len()).ok() != Some(range.count()) {
        return Err(no_data);
    }
    let others: &Array = match part {
        Variant::Array(others) | Variant::Matrix(others, _) => others,
        Variant::Null | Variant::Scalar(_) => return Err(mismatch),
    };
    if elements.type_number() != others.type_number() {
        return Err(StatusCode::BAD_TYPE_MISMATCH);
    }
    if elements.put(&places, others) { Ok(replaced) } else { Err(mismatch) }
}

fn span((first, last): (u32, u32)) -> (usize, usize) {
    let number = |number| usize::try_from(number).unwrap_or(usize::MAX);
    (number(first), number(last - first).saturating_add(1))
}

/// First and last in each dimension, as far as they are there.
fn clipped<'a>(lengths: &'a [usize], range: &'a NumericRange) -> impl Iterator<Item = (usize, usize)> + 'a {
    let number = |number| usize::try_from(number).unwrap_or(usize::MAX);
    let clipped = move |(length, (first, last)): (&usize, &(u32, u32))| (number(*first), number(*last).min(length - 1));
    lengths.iter().zip(range.dimensions()).map(clipped)
}

/// The places of the elements that a range means, as far as they are there.
fn places(lengths: &[usize], range: &NumericRange) -> Result<Vec<usize>, StatusCode> {
    if lengths.len() != range.dimensions().len() {
        return Err(StatusCode::BAD_INDEX_RANGE_INVALID);
    }
    let is_there =
        |(length, (first, _)): (&usize, &(u32, u32))| usize::try_from(*first).is_ok_and(|first| first < *length);
    if !lengths.iter().zip(range.dimensions()).all(is_there) {
        return Err(StatusCode::BAD_INDEX_RANGE_NO_DATA);
    }
    let mut places = vec![0];
    for ((first, last), length) in clipped(lengths, range).zip(lengths) {
        places = places.iter().flat_map(|place| (first..=last).map(move |at| place * length + at)).collect();
    }
    Ok(places)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn range(text: &str) -> NumericRange {
        text.parse().unwrap()
    }

    #[test]
    fn parts_are_taken_and_put_back_where_they_are_there() {
        let row = Variant::Array(Array::Int16(vec![10, 11, 12, 13]));
        let matrix = Variant::Matrix(Array::Int16(vec![0, 1, 2, 10, 11, 12]), vec![2, 3]);
        let text = Variant::Scalar(Scalar::String(Some("Größe".to_owned())));
        let int16 = |elements: &[i16]| Variant::Array(Array::Int16(elements.to_vec()));
        for (value, text, expected) in [
            (&row, "2", Ok(int16(&[12]))),
            (&row, "1:2", Ok(int16(&[11, 12]))),
            (&row, "3:9", Ok(int16(&[13]))),
            (&row, "4", Err(StatusCode::BAD_INDEX_RANGE_NO_DATA)),
            (&row, "0,1", Err(StatusCode::BAD_INDEX_RANGE_INVALID)),
            (&matrix, "1,0:1", Ok(Variant::Matrix(Array::Int16(vec![10, 11]), vec![1, 2]))),
            (&matrix, "0:1,2", Ok(Variant::Matrix(Array::Int16(vec![2, 12]), vec![2, 1]))),
            (&matrix, "0:1,5:6", Err(StatusCode::BAD_INDEX_RANGE_NO_DATA)),
            (&text, "2:3", Ok(Variant::Scalar(Scalar::String(Some("öß".to_owned()))))),
            (&Variant::Null, "0", Err(StatusCode::BAD_INDEX_RANGE_NO_DATA)),
            (&Variant::from(1_i16), "0", Err(StatusCode::BAD_INDEX_RANGE_NO_DATA)),
        ] {
            assert_eq!(part(value, &range(text)), expected, "{text}");
        }
        assert_eq!(replaced(&row, &range("1:2"), &int16(&[7, 8])), Ok(int16(&[10, 7, 8, 13])));
        let column = Variant::Matrix(Array::Int16(vec![7, 8]), vec![2, 1]);
        let expected = Variant::Matrix(Array::Int16(vec![0, 7, 2, 10, 8, 12]), vec![2, 3]);
        assert_eq!(replaced(&matrix, &range("0:1,1"), &column), Ok(expected));
        for (text, part, status) in [
            ("3:4", int16(&[1, 2]), StatusCode::BAD_INDEX_RANGE_NO_DATA),
            ("1:2", int16(&[1]), StatusCode::BAD_INDEX_RANGE_DATA_MISMATCH),
            ("1", Variant::from(1_i16), StatusCode::BAD_INDEX_RANGE_DATA_MISMATCH),
            ("1", Variant::Array(Array::Int32(vec![1])), StatusCode::BAD_TYPE_MISMATCH),
        ] {
            assert_eq!(replaced(&row, &range(text), &part), Err(status), "{text}");
        }
    }
}
