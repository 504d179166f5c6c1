use std::sync::LazyLock;

/// One row of the table of models.
#[derive(Debug)]
pub(super) struct Row {
    model: u16,
    pub(super) title: &'static str,
    pub(super) name: &'static str,
    pub(super) kind: &'static str,
    pub(super) size: u16,
    pub(super) scale_factor: &'static str,
    pub(super) unit: &'static str,
    pub(super) words: &'static str,
    pub(super) label: &'static str,
}

static ROWS: LazyLock<Vec<Row>> =
    LazyLock::new(|| include_str!("models.tsv").lines().skip(1).filter_map(row).collect());

/// The cells of a row stand between tabs; none of them holds one.
fn row(line: &'static str) -> Option<Row> {
    let mut cells = line.split('\t');
    let mut cell = || cells.next();
    Some(Row {
        model: cell()?.parse().ok()?,
        title: cell()?,
        name: cell()?,
        kind: cell()?,
        size: cell()?.parse().ok()?,
        scale_factor: cell()?,
        unit: cell()?,
        words: cell()?,
        label: cell()?,
    })
}

/// The rows of one model, in the order of their registers; none for models that are not known.
pub(super) fn rows_of(model: u16) -> &'static [Row] {
    let first = ROWS.partition_point(|row| row.model < model);
    let end = ROWS.partition_point(|row| row.model <= model);
    ROWS.get(first..end).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn models_have_the_lengths_of_the_standard() {
        assert_eq!(ROWS.len(), include_str!("models.tsv").lines().count() - 1, "every line is a row");
        assert!(ROWS.is_sorted_by_key(|row| row.model));
        for (model, length) in [(1, 66), (101, 50), (103, 50), (113, 60), (120, 26), (201, 105), (204, 105), (213, 124)]
        {
            assert_eq!(rows_of(model).iter().map(|row| row.size).sum::<u16>(), length, "model {model}");
        }
        assert!(rows_of(999).is_empty());
    }
}
