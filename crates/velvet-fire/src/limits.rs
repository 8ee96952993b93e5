//! Values at their limits, through every form in which they are kept, copied, told and read again.

use crate::everything::{self, Everything, Owner};
use crate::trial::Trial;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use velvet_drawer::inspect::{Exchange, File, Limits, import, import_sql, salvage};
use velvet_drawer::{Drawer, Error, Key, Position};

/// What is to be stored: the records by their keys.
type Model = BTreeMap<i64, Everything>;

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    while let Some(mut chance) = trial.next() {
        let place = folder.path().join("limits");
        let _ = fs::remove_dir_all(&place);
        fs::create_dir_all(&place).expect("a folder");
        let path = place.join("fire.drawer");
        match written(&path, &mut chance) {
            Ok(model) => {
                trial.count("records", model.len() as u64);
                for (form, through) in FORMS {
                    let holds = through(&path, &place.join(form)).map(|(found, has_keys)| is(&model, found, has_keys));
                    trial.count("forms", 1);
                    match holds {
                        Ok(true) => {}
                        Ok(false) => trial.found(format!("{form} has other values")),
                        Err(error) => trial.found(format!("{form}: {error}")),
                    }
                }
            }
            Err(error) => trial.found(format!("writing: {error}")),
        }
    }
}

/// Of each field a value from one of several records, most of them at their limits.
fn mixed(number: u8, chance: &mut fastrand::Rng) -> Everything {
    let [least, greatest] = everything::at_limits();
    let mut all = [everything::plain(number), least, greatest];
    macro_rules! one_of {
        ($($field:ident),*) => { Everything { $($field: all[chance.usize(..3)].$field.clone(),)* ..all[0].clone() } };
    }
    let mut record = one_of!(
        title,
        remarks,
        i8,
        i16,
        i32,
        i64,
        u8,
        u16,
        u32,
        u64,
        f32,
        f64,
        maybe_f64,
        bool,
        secret,
        bytes,
        day,
        time,
        date_time,
        timestamp,
        signed,
        duration,
        form,
        bearing,
        maybe_bearing,
        json,
        curve,
        maybe_curve,
        file,
        r#type,
        letter,
        never_zero,
        address,
        four,
        boxed
    );
    let text: String = (0..chance.usize(..9)).map(|_| chance.char('\0'..='\u{2fff}')).collect();
    let odd = |chance: &mut fastrand::Rng| f64::from_bits(chance.u64(..));
    record.mark = format!("{number} {}", all[chance.usize(..3)].mark);
    record.uuid = all[0].uuid.take();
    record.order = number;
    if chance.bool() {
        record.r#type = text.clone();
        record.remarks = Some(text);
        record.i64 = chance.i64(..);
        record.bytes = (0..chance.usize(..40)).map(|_| chance.u8(..)).collect();
        record.f64 = Some(odd(chance)).filter(|x| !x.is_nan()).unwrap_or(-0.1);
        record.f32 = Some(f32::from_bits(chance.u32(..))).filter(|x| !x.is_nan()).unwrap_or(0.1);
    }
    record
}

/// Writes records in every way in which they can be, and says what is to be there.
fn written(path: &Path, chance: &mut fastrand::Rng) -> Result<Model, Error> {
    let drawer = Drawer::open(path, everything::schema())?;
    let owner = drawer.insert(Owner::named(""))?;
    let mut model = Model::new();
    for number in 1..=chance.u8(2..12) {
        let new = Everything {
            twin: model.keys().next_back().map(|key| Key::from_number(*key)),
            owner: chance.bool().then_some(owner.key()),
            ..mixed(number, chance)
        };
        let key = match chance.u32(..4) {
            0 => drawer.insert(new.clone())?.key(),
            1 => drawer.write(|tx| Ok(tx.insert_all([new.clone()])?.remove(0).key()))?,
            2 => drawer.insert_or_replace(new.clone())?.key(),
            _ => {
                let first = drawer.insert(everything::plain(number))?;
                drawer.change(first.key(), |record| *record = new.clone())?.key()
            }
        };
        model.insert(key.number(), new);
    }
    everything::write_the_rest(&drawer)?;
    // The same again changes nothing.
    let refreshed = drawer.refresh(model.values().cloned()).run()?;
    if refreshed.changed + refreshed.added > 0 {
        return Err(Error::own(format!("refreshing with the same wrote: {refreshed:?}")));
    }
    drawer.close()?;
    Ok(model)
}

/// What is found, and whether records have the keys that they had.
type Found = (Vec<(i64, Everything)>, bool);

type Through = fn(&Path, &Path) -> Result<Found, Error>;

const FORMS: [(&str, Through); 10] = [
    ("the file itself", |path, _| Ok((all(&Drawer::open(path, everything::schema())?)?, true))),
    ("a list that follows", |path, _| {
        let drawer = Drawer::open(path, everything::schema())?;
        let mut live = drawer.records::<Everything>().sort_by(|e| e.key().ascending()).watch()?;
        let update = live.next().ok_or_else(|| Error::own("nothing came"))?;
        let update = update.map_err(|failed| Error::own(failed.to_string()))?;
        Ok((update.result.numbers().zip(update.result.iter().map(|e| (**e).clone())).collect(), true))
    }),
    ("a copy", |path, to| {
        Drawer::open(path, everything::schema())?.copy_to(to)?;
        Ok((all(&Drawer::open(to, everything::schema())?)?, true))
    }),
    ("bytes", |path, _| {
        let bytes = Drawer::open(path, everything::schema())?.to_bytes()?;
        Ok((all(&Drawer::from_bytes(&bytes, everything::schema())?)?, true))
    }),
    ("statements", |path, to| {
        import_sql(to, &text(path, None, Exchange::SqlText)?, &Limits::default())?;
        Ok((all(&Drawer::open(to, everything::schema())?)?, true))
    }),
    ("JSON Lines", |path, to| imported(path, to, Exchange::JsonLines)),
    ("comma-separated values", |path, to| imported(path, to, Exchange::Csv)),
    ("what is saved", |path, to| {
        salvage(path, to, &Limits::default())?;
        Ok((all(&Drawer::open(to, everything::schema())?)?, true))
    }),
    ("changes", |path, to| {
        let mut lines = Vec::new();
        Drawer::open(path, everything::schema())?.changes_since(Position::START).write_json_lines(&mut lines)?;
        let other = Drawer::open(to, everything::schema())?;
        other.apply_changes(lines.as_slice()).run()?;
        Ok((all(&other)?, false))
    }),
    ("a compacted file", |path, to| {
        fs::copy(path, to).map_err(Error::own)?;
        let drawer = Drawer::open(to, everything::schema())?;
        drawer.compact()?;
        Ok((all(&drawer)?, true))
    }),
];

fn text(path: &Path, table: Option<&str>, form: Exchange) -> Result<String, Error> {
    let (file, mut out) = (File::open(path)?, Vec::new());
    match table {
        Some(table) => file.export(&file.table(table)?, form, &mut out)?,
        None => file.export_all(form, &mut out)?,
    };
    String::from_utf8(out).map_err(Error::own)
}

/// Through a text of each table, into a new drawer.
fn imported(path: &Path, to: &Path, form: Exchange) -> Result<Found, Error> {
    Drawer::open(to, everything::schema())?.close()?;
    for table in ["owner", "select", "said", "table"] {
        import(to, Some(table), form, &mut text(path, Some(table), form)?.as_bytes(), &Limits::default())?;
    }
    Ok((all(&Drawer::open(to, everything::schema())?)?, true))
}

fn all(drawer: &Drawer) -> Result<Vec<(i64, Everything)>, Error> {
    everything::the_rest_is_there(drawer)?;
    Ok(drawer.records::<Everything>().collect()?.into_iter().map(|r| (r.key().number(), r.into_parts().1)).collect())
}

/// Whether what was found is what is to be there. Other devices have other keys; there, links are not compared.
fn is(model: &Model, found: Vec<(i64, Everything)>, has_keys: bool) -> bool {
    if has_keys {
        return found.into_iter().collect::<Model>() == *model;
    }
    let by_mark = |all: &mut dyn Iterator<Item = Everything>| {
        let plain = |e: Everything| (e.mark.clone(), Everything { twin: None, owner: None, ..e });
        all.map(plain).collect::<BTreeMap<_, _>>()
    };
    by_mark(&mut found.into_iter().map(|(_, e)| e)) == by_mark(&mut model.values().cloned())
}
