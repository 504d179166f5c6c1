/// Text as a cell of a list, with this mark between its cells. None is taken for a formula: what begins like one has an apostrophe
/// before it.
#[must_use]
pub fn cell(text: &str, mark: char) -> String {
    let is_formula = text.trim_start().starts_with(['=', '+', '-', '@']) && text.parse::<f64>().is_err();
    let text = if is_formula { format!("'{text}") } else { text.to_owned() };
    if text.contains([mark, '"', '\r', '\n']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula_and_none_breaks_its_row() {
        let commas = |text| cell(text, ',');
        assert_eq!(commas("closed"), "closed");
        assert_eq!(commas("-4.5"), "-4.5");
        assert_eq!(commas("=1+1"), "'=1+1");
        assert_eq!(commas("a,\"b\"\n"), "\"a,\"\"b\"\"\n\"");
        assert_eq!((commas("a;b"), cell("a;b", ';')), ("a;b".to_owned(), "\"a;b\"".to_owned()));
    }
}
