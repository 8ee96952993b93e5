use velvet_drawer::{Choice, Record, Schema};

#[derive(Record, Clone, Debug)]
#[record(name = "choice")]
pub struct ChoiceRow {
    pub c: Option<ChoiceRowC>,
    pub d: Option<String>,
    pub e: Option<ChoiceRowE>,
}

#[derive(Choice, Clone, Debug, PartialEq, Eq)]
pub enum ChoiceRowC {
    #[choice(name = "A b")]
    AB,
    #[choice(name = "a-b")]
    ABToo,
}

#[derive(Choice, Clone, Debug, PartialEq, Eq)]
pub enum ChoiceRowE {
    #[choice(name = "Self")]
    SelfToo,
    Ä,
}

pub fn schema() -> Schema {
    Schema::new("choices")
        .record::<ChoiceRow>()
}
