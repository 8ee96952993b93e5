//! What cannot be read back is not written, and what another program left unreadable is named and passed over.

use crate::common;
use common::everything::{Bearing, Curve, Everything, at_limits, plain, schema};
use common::{folder, other_program};
use velvet_drawer::{Drawer, Error, Stored};

fn deep(levels: usize) -> serde_json::Value {
    (0..levels).fold(serde_json::Value::Null, |inner, _| serde_json::Value::Array(vec![inner]))
}

#[test]
fn values_at_their_limits_come_back_as_they_were() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let mut stored = drawer.insert_all(at_limits()).unwrap();
    stored.push(drawer.insert(plain(7)).unwrap());
    stored.push(drawer.insert(Everything { twin: Some(stored[0].key()), json: deep(127), ..plain(8) }).unwrap());
    drawer.close().unwrap();
    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(drawer.records::<Everything>().collect().unwrap(), stored);
    let texts = |stored: &[Stored<Everything>]| stored.iter().map(|s| s.json.to_string()).collect::<Vec<_>>();
    assert_eq!(texts(&drawer.records::<Everything>().collect().unwrap()), texts(&stored));
}

#[test]
fn what_could_not_be_read_back_is_not_written_by_any_way() {
    let drawer = Drawer::in_memory(schema()).unwrap();
    let kept = drawer.insert(plain(1)).unwrap();
    let curve = |celsius: f64| Curve { celsius: vec![1.0, celsius], note: None };
    type Edit = Box<dyn Fn(&mut Everything)>;
    let unfit: [(Edit, &str); 5] = [
        (Box::new(move |e| e.curve = curve(f64::NAN)), "select.curve, the nested value holds NaN at `celsius[1]`"),
        (Box::new(move |e| e.maybe_curve = Some(curve(f64::INFINITY))), "holds inf at `celsius[1]`"),
        (Box::new(|e| e.json = deep(130)), "select.json, the nested value could not be read back"),
        (Box::new(|e| e.bearing = Bearing(400)), "select.bearing, 400 is no bearing (0 to 359)"),
        (Box::new(|e| e.maybe_bearing = Some(Bearing(360))), "select.maybe_bearing, 360 is no bearing"),
    ];
    for (edit, said) in unfit {
        let record = || {
            let mut record = plain(2);
            edit(&mut record);
            record
        };
        let mut form = kept.edit();
        edit(&mut form);
        let refused: [Result<(), Error>; 7] = [
            drawer.insert(record()).map(drop),
            drawer.insert_all([plain(3), record()]).map(drop),
            drawer.insert_or_replace(Everything { mark: "E-1".into(), ..record() }).map(drop),
            drawer.replace(kept.key(), record()).map(drop),
            drawer.change(kept.key(), &edit).map(drop),
            drawer.save(form).map(drop).map_err(Error::from),
            drawer.refresh([record()]).run().map(drop),
        ];
        for (way, result) in refused.into_iter().enumerate() {
            let error = result.unwrap_err();
            assert!(error.is_misfit(), "{way}: {error:?}");
            assert!(error.to_string().contains(said), "{way}: {error}");
        }
    }
    let set = drawer.records::<Everything>().update(|e| e.bearing.set(Bearing(400))).unwrap_err();
    assert!(set.to_string().contains("400 is no bearing"), "{set}");
    let bound =
        drawer.write(|tx| tx.sql("update \"select\" set bearing = :b").bind("b", Bearing(400)).run()).unwrap_err();
    assert!(bound.to_string().contains("400 is no bearing"), "{bound}");
    assert_eq!(drawer.records::<Everything>().collect().unwrap(), [kept]);
}

#[test]
fn a_row_that_cannot_be_read_is_named_and_the_rest_is_listed() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let stored = drawer.insert_all((1..=4).map(plain)).unwrap();
    let damage = "UPDATE \"select\" SET bearing = 400 WHERE key = 2; UPDATE \"select\" SET json = '[' WHERE key = 3";
    other_program(&path).execute_batch(damage).unwrap();
    let listed = drawer.records::<Everything>().collect().unwrap_err();
    assert!(listed.is_unreadable() && listed.to_string().starts_with("cannot read select 2: in select.bearing, 400"));
    let found = drawer.records::<Everything>().sort_by(|e| e.mark.descending()).collect_readable().unwrap();
    assert_eq!(found.records, [stored[3].clone(), stored[0].clone()]);
    let keys: Vec<_> = found.unreadable.iter().map(|(key, _)| *key).collect();
    assert_eq!(keys, [stored[2].key(), stored[1].key()]);
    assert!(found.unreadable[0].1.to_string().starts_with("cannot read select 3: in select.json, "));
    drawer.replace(keys[0], plain(3)).unwrap();
    drawer.remove(keys[1]).unwrap();
    assert_eq!(drawer.records::<Everything>().collect().unwrap().len(), 3);
}

#[test]
fn a_declared_fallback_is_read_and_never_written_over_what_stands_there() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let stored = drawer.insert(Everything { loose: Curve { celsius: vec![1.0], note: None }, ..plain(1) }).unwrap();
    let newer = "{\"celsius\":{\"of a newer app\":[1]}}";
    let other = other_program(&path);
    other.execute("UPDATE \"select\" SET loose = ?1", [newer]).unwrap();
    let there = || other.query_row("SELECT loose FROM \"select\"", [], |row| row.get::<_, String>(0)).unwrap();
    let read = drawer.change(stored.key(), |e| e.i8 = 7).unwrap();
    assert_eq!((&read.loose, read.i8, there()), (&Curve::default(), 7, newer.to_owned()));
    let mut edit = drawer.get(stored.key()).unwrap().unwrap().edit();
    edit.i8 = 8;
    drawer.save(edit).unwrap();
    assert_eq!(there(), newer);
    assert!(drawer.records::<Everything>().only(|e| e.loose).collect().unwrap() == [Curve::default()]);
    drawer.change(stored.key(), |e| e.loose.celsius.push(2.0)).unwrap();
    assert_eq!(there(), "{\"celsius\":[2.0],\"note\":null}");
}
