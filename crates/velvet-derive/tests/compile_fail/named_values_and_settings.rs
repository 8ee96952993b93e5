use velvet_drawer::{Attachment, Drawer, Key, Record, Settings};

#[derive(Record)]
#[record(named)]
struct Seat {
    name: i64,
    value: String,
    since: u32,
}

#[derive(Record)]
#[record(named)]
struct Count {
    name: String,
    value: Vec<u64>,
}

#[derive(Record)]
struct Glaze {
    name: String,
    #[record(remove_unlinked)]
    wordings: String,
}

#[derive(Settings, Clone)]
struct Bench {
    #[settings(name = "a/b")]
    top: u32,
    #[settings(defualt = 3)]
    low: u32,
    #[settings(was = "high")]
    middle: u32,
    high: u32,
    #[settings(name = "high")]
    higher: u32,
}

struct NotSerde;

#[derive(Settings, Clone)]
struct Shop {
    open: NotSerde,
    #[settings(default = "nine")]
    from: Hour,
}

#[derive(serde::Serialize, serde::Deserialize, Clone)]
struct Hour(u8);

#[derive(Settings, Clone)]
struct Nothing;

fn uses(drawer: &Drawer, photo: Key<Attachment>) {
    drawer.named::<Glaze>();
    drawer.named::<Count>();
    drawer.settings::<Glaze>();
    let _ = drawer.settings::<Bench>().get();
    drawer.read(|view| view.named::<Seat>().set(1, String::new())).unwrap();
    drawer.named::<Glaze>().get("a").unwrap();
    drawer.attachments().bytes(drawer.insert(Glaze { name: String::new(), wordings: String::new() }).unwrap().key()).unwrap();
    let _ = photo;
}

fn main() {}
