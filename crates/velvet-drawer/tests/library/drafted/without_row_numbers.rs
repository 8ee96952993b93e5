use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Setting {
    #[record(own_key)]
    pub slug: String,
    // Its values are of several types, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub value: Option<String>,
}

#[derive(Record, Clone, Debug)]
#[record(unique(piece, word))]
pub struct Tag {
    pub piece: Option<i64>,
    // It leads to `setting.slug`, which is no row number, so it stays a value.
    pub word: Option<String>,
}

pub fn schema() -> Schema {
    Schema::new("without_row_numbers")
        .record::<Setting>()
        .record::<Tag>()
}
