#![doc = include_str!("guide.md")]
#![forbid(unsafe_code)]
// What only looking into files uses is left out by the linker.
#![cfg_attr(not(feature = "inspect"), allow(dead_code, unused_imports))]
#![warn(clippy::unwrap_used)]

#[cfg(feature = "inspect")]
pub mod inspect;
#[cfg(feature = "inspect")]
pub mod testing;

mod attachments;
mod bookkeeping;
mod device;
mod drawer;
mod engine;
mod error;
mod events;
mod evolve;
mod exchange;
mod file;
mod live;
mod named;
mod opening;
mod query;
mod records;
mod schema;
mod sealing;
mod search;
mod sql;
mod work;

pub use attachments::outside::DanglingFile;
pub use attachments::{Adding, AttachmentReader, Attachments, Prepared};
#[doc(hidden)]
pub use drawer::{Access, Alone, MayWrite, Mode, Reads, Scope, Writes};
pub use drawer::{Drawer, Health, Later, OpenRead, Opened, Resting};
pub use error::Error;
pub use evolve::{Adopted, Upgraded, UpgradedVersion};
pub use exchange::{Applied, Apply, Changed, ChangesSince, Position};
pub use file::place;
pub use live::{Live, LiveStream, State, Switch, Update};
pub use named::{NamedValues, settings::SettingsOf};
#[cfg(feature = "encryption")]
pub use opening::{FileKeyChange, FileKeyChanged, NotChanged};
pub use opening::{KeptCopy, KeptFor, Options};
#[cfg(feature = "table")]
pub use query::grid;
pub use query::{
    Explained, Follow, Gather, Going, Groups, Hit, LinkedTo, NestedLink, Only, OnlyFound, Readable, Records, Search,
    Stream, View, With,
};
pub use records::{LastRefresh, Refresh, Refreshed, Space, Tx, Unsaved};
pub use schema::attachment::Attachment;
pub use schema::{CodeRow, Schema, Upgrade};
#[cfg(feature = "encryption")]
pub use sealing::encryption::{FileKey, PassPhrase, Unlocked};
pub use sealing::{KeyChange, keys::KeysInMemory};
pub use sql::Sql;
pub use velvet_core::live::{List, Step};
pub use velvet_core::sealing::SecretKey;
pub use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};
pub use velvet_core::statement::Trail;
pub use velvet_core::{
    Argument, Assignment, Assignments, Choice, Column, ColumnType, Comparable, Computed, Condition, Edit, Excerpt,
    ExcerptOf, Group, InJson, Inside, Key, Keyed, LinkedFrom, Links, Marked, Misfit, Named, NamedValue, Nested,
    Nesting, Optional, Order, Orders, OutsideFile, Pick, Record, SealedColumn, Searchable, Settings, Shared, Stored,
    StoredAs, Summed, Term, TextOrder, Textual, Value,
};
#[doc(inline)]
pub use velvet_derive::{Choice, Excerpt, Record, Settings};
pub use work::{cancel::Cancel, progress::Progress, ui_thread};

/// What the code of the derives needs. Not for use by hand.
#[doc(hidden)]
pub mod __private {
    pub use jiff::Timestamp;
    pub use serde_json::Value as JsonValue;
    pub use velvet_core::choice_is_a_column;
    pub use velvet_core::column_type::{OrDefault, Sealed, stored_arg, stored_value};
    pub use velvet_core::named::named_value::NamedStatements;
    pub use velvet_core::named::settings::{SettingField, SettingPlace, load_setting, store_setting};
    pub use velvet_core::query::column::key_column;
    pub use velvet_core::query::excerpt::{Excerpt, ExcerptOf, Wanted};
    pub use velvet_core::query::field::{FieldOf, Fit, Unfit};
    pub use velvet_core::query::pick::{Picked, pick_column};
    pub use velvet_core::query::sealed_column::pick_sealed_column;
    pub use velvet_core::records::record_statements::RecordStatements;
    pub use velvet_core::records::stamp::{Stamp, StampedColumn, When};
    pub use velvet_core::schema::hints::{Hint, Hints, Origin};
    pub use velvet_core::schema::structure::{Index, Kind, OnDelete, Table};
    pub use velvet_core::{
        Choice, Column, ColumnType, Json, Key, Keyed, LinkOf, LinkedFrom, Misfit, NamedValue, Output, Record,
        SealedColumn, Searchable, Settings, Shape, Shared, Sink, Source, Textual, Value, ValueRef,
    };
    pub use velvet_derive::Record as DeriveRecord;

    /// Encrypts every new file with this key, for the tests of the library itself.
    #[cfg(feature = "encryption")]
    pub fn encrypt_always(key: [u8; 32]) {
        crate::engine::always(velvet_core::sealing::SecretKey::from_bytes(key));
    }

    /// The key of the file at a path as the engine takes it, where it is encrypted and this process knows it.
    #[cfg(feature = "encryption")]
    pub fn key_for_engine(path: &std::path::Path) -> Option<String> {
        crate::engine::known(path).map(|cipher| crate::engine::as_text(&cipher).to_string())
    }
}

// The README's example is compiled and run with the tests.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
