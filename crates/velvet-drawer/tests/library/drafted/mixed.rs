use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Mixed {
    // Its values are of several types, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub a: Option<String>,
    pub b: Option<String>,
    // Its values are of several types, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub c: Option<String>,
}

pub fn schema() -> Schema {
    Schema::new("mixed")
        .record::<Mixed>()
}
