//! Fields of settings that come to be sealed, or are no longer: what is stored of them moves to the other table of their type.
//!
//! That is no step of the history, because fields have none; a file is looked at whenever it is opened, so that what an older app has written since, or
//! somebody has imported, is sealed too.

use super::TO_BE_CLEANED;
use crate::bookkeeping::trails::{WantedTrails, hide_of_removed};
use crate::engine::{Connection, Fault};
use crate::error::{Doing, Error};
use crate::schema::about::About;
use crate::schema::{Declared, SealedSettings, SettingsTable};
use velvet_core::Value;
use velvet_core::named::settings::{SettingField, SettingPlace};
use velvet_core::sealing::{Plain, Shut};

/// A setting that stands in a table in which its field has no place.
struct Misplaced {
    from: SettingsTable,
    to: SettingsTable,
    name: Value,
    value: Value,
}

/// Moves the settings that are to move, in a transaction; says whether there were any. Trails are to be brought up then.
pub(crate) fn settle_alone(connection: &Connection, declared: &Declared) -> Result<bool, Error> {
    let settle = || {
        if misplaced(connection, declared)?.is_empty() {
            return Ok(false);
        }
        let transaction = connection.transaction()?;
        About::still_the_same(connection, || {
            WantedTrails::pause(connection)?;
            settle(connection, declared)
        })?;
        transaction.commit()?;
        Ok::<_, Fault>(true)
    };
    settle()
        .doing(|| "cannot open the drawer: its sealed settings cannot be moved")
        .untouched(|| "They are as they were")
}

/// Moves the settings that are to move.
pub(super) fn settle(connection: &Connection, declared: &Declared) -> Result<(), Fault> {
    for Misplaced { from, to, name, value } in misplaced(connection, declared)? {
        // What is in the clear was written later, by an app that did not seal it yet.
        if !from.is_sealed || connection.one(&to.statements.get, [name.as_ref()], |_| ())?.is_none() {
            let sealed = Plain::of(value.as_ref()).filter(|_| to.is_sealed).map(Value::Bytes);
            let stored = [sealed.as_ref().unwrap_or(&value).as_ref(), name.as_ref()];
            connection.execute(&to.statements.remove, [name.as_ref()])?;
            connection.execute(&to.statements.insert, stored)?;
        }
        connection.execute(&from.statements.remove, [name.as_ref()])?;
        if !from.is_sealed && to.is_sealed {
            hide_of_removed(connection, from.name, "value", "sealed")?;
            About::remember(connection, TO_BE_CLEANED, "1")?;
        }
    }
    Ok(())
}

/// The settings that are to move; none where there is no key. What does not open stays where it is.
fn misplaced(connection: &Connection, declared: &Declared) -> Result<Vec<Misplaced>, Fault> {
    let mut all = Vec::new();
    for settings in declared.sealed_settings.iter().filter(|_| declared.sealing.has_key()) {
        let SealedSettings { others, sealed, .. } = *settings;
        for (from, to, place) in
            [(others, sealed, SettingPlace::Sealed), (sealed, others, SettingPlace::WithTheOthersAgain)]
        {
            let mut found = names(connection, settings, from, place)?;
            if found.iter().any(|(_, field)| declared.must_be_sealed(field, others.name, sealed.name)) {
                found.retain(|(_, field)| field.was_clear);
            }
            for (name, _) in found {
                let opened = |stored: &Value| match stored {
                    Value::Bytes(plain) if Shut::of_sign(plain).is_some() => None,
                    Value::Bytes(plain) => Some(Plain::read(plain)?.to_value()),
                    value => Some(value.clone()),
                };
                let stored = connection.one(&from.statements.get, [name.as_ref()], |row| row.value(0).to_value())?;
                let value = stored.as_ref().and_then(opened);
                all.extend(value.map(|value| Misplaced { from, to, name, value }));
            }
        }
    }
    Ok(all)
}

/// The names in a table that are, or were, those of the fields with a place; of all accounts. Each with its field.
fn names(
    connection: &Connection,
    settings: &SealedSettings,
    table: SettingsTable,
    place: SettingPlace,
) -> Result<Vec<(Value, &'static SettingField)>, Fault> {
    let field_of = |name: &str| {
        let field = name.rsplit_once('/').map_or(name, |(_, field)| field);
        settings.fields.iter().find(|f| f.place == place && (f.name == field || f.was == Some(field)))
    };
    let found = connection
        .list(&table.statements.names, [], |row| field_of(row.text(0)).map(|field| (row.value(0).to_value(), field)))?;
    Ok(found.into_iter().flatten().collect())
}
