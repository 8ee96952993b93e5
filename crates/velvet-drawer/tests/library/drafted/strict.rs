use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Strict {
    pub a: String,
    pub b: Option<i64>,
    pub c: Option<i64>,
    pub d: Vec<u8>,
}

pub fn schema() -> Schema {
    Schema::new("strict")
        .record::<Strict>()
}
