//! What the app's log is told, in the promised order.

use crate::common;
use common::versions::{schema, v1};
use common::{Glaze, folder};
use std::sync::{Arc, Mutex};
use tracing::field::{Field, Visit};
use velvet_drawer::{Drawer, KeysInMemory, Record, Schema};

/// Keeps each event as its name and what it says.
#[derive(Clone, Default)]
struct Log(Arc<Mutex<Vec<(String, String)>>>);

struct Said(String, String);

impl Visit for Said {
    fn record_debug(&mut self, field: &Field, value: &dyn std::fmt::Debug) {
        match field.name() {
            "message" => self.0 = format!("{value:?}"),
            name => self.1.push_str(&format!("{name}={value:?} ")),
        }
    }
}

impl tracing::Subscriber for Log {
    fn enabled(&self, metadata: &tracing::Metadata<'_>) -> bool {
        metadata.target() == "velvet_drawer"
    }
    fn event(&self, event: &tracing::Event<'_>) {
        let mut said = Said(String::new(), String::new());
        event.record(&mut said);
        self.0.lock().unwrap().push((said.0, said.1));
    }
    fn new_span(&self, _: &tracing::span::Attributes<'_>) -> tracing::span::Id {
        tracing::span::Id::from_u64(1)
    }
    fn record(&self, _: &tracing::span::Id, _: &tracing::span::Record<'_>) {}
    fn record_follows_from(&self, _: &tracing::span::Id, _: &tracing::span::Id) {}
    fn enter(&self, _: &tracing::span::Id) {}
    fn exit(&self, _: &tracing::span::Id) {}
}

/// The names of what `work` logs, and all of it. Each test has a process of its own: what another thread is the first to tell is not told to a log of this
/// thread alone.
fn logged(work: impl FnOnce()) -> (Vec<String>, String) {
    let log = Log::default();
    tracing::subscriber::with_default(log.clone(), work);
    let all = log.0.lock().unwrap().clone();
    (all.iter().map(|(name, _)| name.clone()).collect(), format!("{all:#?}"))
}

#[test]
fn events_come_in_the_promised_order_with_file_version_and_reason() {
    if !common::is_alone("events::events_come_in_the_promised_order_with_file_version_and_reason") {
        return;
    }
    let (_folder, path) = folder();
    let shown = path.display().to_string();
    let (names, said) = logged(|| {
        let drawer = Drawer::open(&path, schema(1)).unwrap();
        drawer.insert(v1::Piece { mark: "K-1".into(), wt: None, glaze: "Shino".into(), sketch: vec![] }).unwrap();
        drawer.close().unwrap();
    });
    assert_eq!(names, ["configured", "created", "opened", "closed"], "{said}");
    assert_eq!(said.matches(&format!("file={shown} ")).count(), 4, "each names the whole path: {said}");

    let (names, said) = logged(|| drop(Drawer::open(&path, schema(3)).unwrap()));
    assert_eq!(names, ["configured", "step", "step", "upgraded", "opened", "closed"], "{said}");
    assert!(said.contains("from=1 version=3 backup=/") && said.contains("kiln.at-version-1.drawer"), "{said}");
    assert!(said.contains("did=create table `shelf`") && said.contains("rows=1 took_ms="), "{said}");

    let (names, said) = logged(|| drop(Drawer::open(&path, schema(2)).unwrap_err()));
    assert_eq!(names, ["configured", "failed"], "{said}");
    assert!(said.contains("reason=cannot open the drawer: a newer app wrote it"), "{said}");

    let newer = || Drawer::options().set_aside_newer_version();
    let (names, said) = logged(|| drop(newer().open(&path, Schema::new("kilnbook").record::<Glaze>()).unwrap()));
    assert_eq!(names, ["configured", "set aside", "created", "opened", "closed"], "{said}");
}

#[derive(Record)]
struct Client {
    name: String,
    #[record(sealed)]
    phone: Option<String>,
}

#[test]
fn what_is_sealed_is_never_told() {
    if !common::is_alone("events::what_is_sealed_is_never_told") {
        return;
    }
    let (_folder, path) = folder();
    let (_, said) = logged(|| {
        let options = Drawer::options().report_statements().report_values().keys(KeysInMemory::default());
        let drawer = options.open(&path, Schema::new("kilnbook").record::<Client>()).unwrap();
        let ann = drawer.insert(Client { name: "Ann".into(), phone: Some("Secret".into()) }).unwrap();
        drawer.change(ann.key(), |c| c.phone = Some("Secret too".into())).unwrap();
        drawer.records::<Client>().update(|c| c.phone.set("Secret still")).unwrap();
        drawer.records::<Client>().filter(|c| c.name.is("Ann")).collect().unwrap();
        drawer.renew_key().unwrap();
        drawer.close().unwrap();
    });
    let hex: String = "Secret".bytes().map(|byte| format!("{byte:02X}")).collect();
    assert!(said.contains("velvet_seal(") && said.contains("'Ann'"), "{said}");
    assert!(!said.contains("Secret") && !said.to_uppercase().contains(&hex), "{said}");
}

#[test]
fn slow_statements_are_told_or_all_and_values_only_when_asked() {
    if !common::is_alone("events::slow_statements_are_told_or_all_and_values_only_when_asked") {
        return;
    }
    let options = |path: &std::path::Path, options: velvet_drawer::Options| {
        let drawer = options.open(path, Schema::new("kilnbook").record::<Glaze>()).unwrap();
        drawer.insert(Glaze { name: "Secret celadon".into() }).unwrap();
        drawer.records::<Glaze>().filter(|g| g.name.is("Secret celadon")).collect().unwrap();
        drawer.sql("select name from glaze where name > :n").bind("n", "Secret a").rows::<String>().unwrap();
    };
    let (_folder, path) = folder();
    let (names, said) = logged(|| options(&path, Drawer::options()));
    assert!(!names.contains(&"statement".into()) && !said.contains("celadon"), "{said}");
    let (_folder, path) = folder();
    let (names, said) = logged(|| options(&path, Drawer::options().report_statements()));
    assert!(names.contains(&"statement".into()), "{said}");
    assert!(
        said.contains("INSERT INTO \\\"glaze\\\"") && said.contains("select name from glaze where name > :n"),
        "{said}"
    );
    assert!(said.contains("rows=1") && !said.contains("Secret"), "{said}");
    let (_folder, path) = folder();
    let slow = Drawer::options().report_slow(std::time::Duration::ZERO).report_values();
    let (names, said) = logged(|| options(&path, slow));
    assert!(names.contains(&"slow".into()) && !names.contains(&"statement".into()), "{said}");
    assert!(said.contains("Secret celadon") && said.contains("name > 'Secret a'"), "{said}");
}

#[cfg(feature = "encryption")]
#[test]
fn no_key_pass_phrase_or_value_of_an_encrypted_file_is_told() {
    if !common::is_alone("events::no_key_pass_phrase_or_value_of_an_encrypted_file_is_told") {
        return;
    }
    use velvet_drawer::{FileKey, PassPhrase, SecretKey};
    let (_folder, path) = folder();
    let bytes = [0xc5; 32];
    let (key, phrase) = (
        || FileKey::of_bytes(SecretKey::from_bytes(bytes)),
        |words: &str| FileKey::of_pass_phrase(PassPhrase::new(words).cost(64, 1)),
    );
    let open = |key: FileKey| {
        Drawer::options().report_statements().encrypted(key).open(&path, Schema::new("kilnbook").record::<Glaze>())
    };
    let (names, said) = logged(|| {
        let drawer = open(key()).unwrap();
        drawer.insert(Glaze { name: "Secret celadon".into() }).unwrap();
        drawer.close().unwrap();
        open(phrase("secret words")).unwrap_err();
        Drawer::change_file_key(&path).from(&key()).to(&phrase("secret words")).run().unwrap();
        drop(open(phrase("secret words")).unwrap());
        Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>()).unwrap_err();
        let mut file = std::fs::read(&path).unwrap();
        file[4096 + 100] ^= 1;
        std::fs::write(&path, file).unwrap();
        drop(open(phrase("secret words")).map(|drawer| drop(drawer.records::<Glaze>().collect())));
    });
    assert!(
        names.iter().filter(|name| *name == "opened").count() >= 2 && names.contains(&"failed".to_owned()),
        "{said}"
    );
    let lower = said.to_lowercase();
    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    for word in ["secret", &hex[..16], "197, 197, 197"] {
        assert!(!lower.contains(word), "{word} is told: {said}");
    }
}
