use velvet_drawer::{Key, Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct A {
    #[record(link(on_delete = clear))]
    pub up: Option<Key<A>>,
    pub b: Option<Key<B>>,
    // It leads to `gone.x`, which is no row number, so it stays a value.
    pub gone: Option<i64>,
}

#[derive(Record, Clone, Debug)]
pub struct B {
    #[record(link(on_delete = remove))]
    pub a: Option<Key<A>>,
}

pub fn schema() -> Schema {
    Schema::new("circles")
        .record::<A>()
        .record::<B>()
}
