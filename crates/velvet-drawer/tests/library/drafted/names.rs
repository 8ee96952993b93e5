use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
#[record(name = "Select")]
pub struct Select {
    pub r#type: Option<i64>,
    pub self_: Option<String>,
    #[record(name = "2nd")]
    pub column_2nd: Option<f64>,
    #[record(name = "Größe")]
    pub größe: Option<f64>,
    #[record(name = "camelCase")]
    pub camel_case: Option<String>,
    #[record(name = "camel_case")]
    pub camel_case_too: Option<String>,
}

#[derive(Record, Clone, Debug)]
#[record(name = "option")]
pub struct OptionRow {
    #[record(own_key)]
    pub r#match: String,
}

// "odd name": its name cannot be declared: names are made of letters, digits, `_` and `-`. Rename it in the file first.

// "keyed": the column "key" cannot be declared: every table gets a column `key` for its row numbers. Rename it in the file first.

// "alone": it has no column but the number of its rows, and a record needs one.

pub fn schema() -> Schema {
    Schema::new("names")
        .record::<Select>()
        .record::<OptionRow>()
}
