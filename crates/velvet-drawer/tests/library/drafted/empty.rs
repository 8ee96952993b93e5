use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Empty {
    pub a: Option<i64>,
    #[record(default = "it's")]
    pub b: String,
    #[record(default = -1.5)]
    pub c: f64,
    #[record(default = true)]
    pub d: bool,
    pub e: Option<Vec<u8>>,
    pub f: Option<String>,
    pub g: Option<f64>,
    pub h: i64,
    pub i: String,
}

pub fn schema() -> Schema {
    Schema::new("empty")
        .record::<Empty>()
}
