#![doc = include_str!("guide.md")]
#![forbid(unsafe_code)]
// What only looking into files uses is left out by the linker.
#![cfg_attr(not(feature = "inspect"), allow(dead_code, unused_imports))]
#![warn(clippy::unwrap_used)]

#[cfg(feature = "table")]
pub mod grid;
#[cfg(feature = "inspect")]
pub mod inspect;
pub mod place;
#[cfg(feature = "inspect")]
pub mod testing;
pub mod ui_thread;

mod about;
mod attachment;
mod attachments;
mod beside;
mod cancel;
mod changes;
mod clock;
mod copying;
mod drawer;
#[cfg(feature = "encryption")]
mod encryption;
#[cfg(not(feature = "encryption"))]
#[path = "encryption/none.rs"]
mod encryption;
mod engine;
mod error;
mod events;
mod facts;
mod keys;
mod live;
mod named;
mod new_file;
mod opening;
mod outcome;
mod outside;
mod progress;
mod reading;
mod running;
mod schema;
mod sealing;
mod searching;
mod sessions;
mod settings;
mod space;
mod sql;
mod temporary;
mod trails;
mod unfinished;
mod upgrading;
mod writing;

pub use attachment::Attachment;
pub use attachments::{Adding, AttachmentReader, Attachments, Prepared};
pub use cancel::Cancel;
pub use changes::{Applied, Apply, Changed, ChangesSince, Position};
pub use drawer::{
    Access, Alone, Drawer, Health, Later, MayWrite, Mode, OpenRead, Opened, Reads, Resting, Scope, Writes,
};
#[cfg(feature = "encryption")]
pub use encryption::{FileKey, PassPhrase, Unlocked};
pub use error::Error;
pub use keys::KeysInMemory;
pub use live::{Live, LiveStream, State, Switch, Update};
pub use named::NamedValues;
#[cfg(feature = "encryption")]
pub use opening::{FileKeyChange, FileKeyChanged, NotChanged};
pub use opening::{KeptCopy, KeptFor, Options};
pub use outside::DanglingFile;
pub use progress::Progress;
pub use reading::{
    Explained, Follow, Gather, Going, Groups, Hit, LinkedTo, NestedLink, Only, OnlyFound, Readable, Records, Search,
    Stream, View, With,
};
pub use schema::{CodeRow, Schema, Upgrade};
pub use sealing::KeyChange;
pub use settings::SettingsOf;
pub use sql::Sql;
pub use upgrading::{Adopted, Upgraded, UpgradedVersion};
pub use velvet_core::keys::{KeyKeeper, KeyRefusal};
pub use velvet_core::list::{List, Step};
pub use velvet_core::sealing::SecretKey;
pub use velvet_core::statement::Trail;
pub use velvet_core::{
    Argument, Assignment, Assignments, Choice, Column, ColumnType, Comparable, Computed, Condition, Edit, Excerpt,
    ExcerptOf, Group, InJson, Inside, Key, Keyed, LinkedFrom, Links, Marked, Misfit, Named, NamedValue, Nested,
    Nesting, Optional, Order, Orders, OutsideFile, Pick, Record, SealedColumn, Searchable, Settings, Shared, Stored,
    StoredAs, Summed, Term, TextOrder, Textual, Value,
};
#[doc(inline)]
pub use velvet_derive::{Choice, Excerpt, Record, Settings};
pub use writing::{LastRefresh, Refresh, Refreshed, Space, Tx, Unsaved};

/// What the code of the derives needs. Not for use by hand.
#[doc(hidden)]
pub mod __private {
    pub use jiff::Timestamp;
    pub use serde_json::Value as JsonValue;
    pub use velvet_core::choice_is_a_column;
    pub use velvet_core::column::key_column;
    pub use velvet_core::column_type::{OrDefault, Sealed, stored_arg, stored_value};
    pub use velvet_core::excerpt::{Excerpt, ExcerptOf, Wanted};
    pub use velvet_core::field::{FieldOf, Fit, Unfit};
    pub use velvet_core::hints::{Hint, Hints, Origin};
    pub use velvet_core::named_value::NamedStatements;
    pub use velvet_core::pick::{Picked, pick_column};
    pub use velvet_core::record_statements::RecordStatements;
    pub use velvet_core::sealed_column::pick_sealed_column;
    pub use velvet_core::settings::{SettingField, SettingPlace, load_setting, store_setting};
    pub use velvet_core::stamp::{Stamp, StampedColumn, When};
    pub use velvet_core::structure::{Index, Kind, OnDelete, Table};
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
