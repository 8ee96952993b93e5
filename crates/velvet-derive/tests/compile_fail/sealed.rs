use velvet_drawer::{Excerpt, Key, Record, Settings};

#[derive(Record)]
struct Client {
    #[record(sealed)]
    phone: String,
    #[record(sealed)]
    pin: Option<u32>,
}

#[derive(Record)]
#[record(unique(number, phone))]
struct Wrong {
    number: u32,
    #[record(sealed, default)]
    phone: String,
    #[record(sealed, unique)]
    mark: String,
    #[record(sealed, searchable)]
    remarks: String,
    #[record(sealed, link(on_delete = clear))]
    client: Option<Key<Client>>,
}

#[derive(Settings, Clone)]
#[settings(sealed, shared)]
struct Account {
    pass_phrase: String,
}

#[derive(Settings, Clone)]
#[settings(sealed)]
struct Door {
    #[settings(sealed)]
    pin: String,
}

#[derive(Settings, Clone)]
#[settings(private)]
struct Safe {
    #[settings(sealed = "safe.value", was_sealed)]
    code: String,
    #[settings(sealed = "vault.value")]
    other: String,
    #[settings(was_clear)]
    third: String,
}

#[derive(Record)]
#[record(shared, name = "a", name = "b", unique(x, y), unique(y, z))]
struct Told {
    #[record(own_key)]
    number: u32,
    #[record(sealed, name = "c")]
    #[record(name = "d")]
    phone: String,
    #[record(default = 1, default = 2)]
    x: u8,
    y: u8,
    z: u8,
}

#[derive(Excerpt)]
#[excerpt(of = Client)]
struct Card {
    phone: String,
}

fn main() {
    let client = Client::columns();
    client.phone.is("555");
    client.phone.is_none();
    client.phone.contains("555");
    client.pin.at_least(5);
    client.pin.ascending();
    client.pin.set("5");
}
