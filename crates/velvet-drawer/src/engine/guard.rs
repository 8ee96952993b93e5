//! What statements that an app wrote itself may do.

use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

/// Refuses what an app's own statements must not do, while one of them is prepared. Our own are not looked at.
#[derive(Clone, Default)]
pub(super) struct Guard(Arc<Mutex<Watching>>);

#[derive(Default)]
struct Watching {
    on: Option<fn(&AuthContext<'_>) -> Option<String>>,
    refused: Option<String>,
    /// The tables that are read, while somebody wants to know.
    reads: Option<BTreeSet<String>>,
}

/// What can be asked of the engine without changing anything.
const HARMLESS: [&str; 9] = [
    "table_info",
    "table_xinfo",
    "table_list",
    "index_list",
    "index_info",
    "index_xinfo",
    "foreign_key_list",
    "page_count",
    "user_version",
];

/// Prepares a statement.
pub(super) type Preparing<'p, 'c> = &'p mut dyn FnMut() -> rusqlite::Result<rusqlite::Statement<'c>>;

/// A prepared statement, and why it was refused, if it was.
pub(super) type Prepared<'c> = (rusqlite::Result<rusqlite::Statement<'c>>, Option<String>);

const STRUCTURE: &str = "it changes the structure; change the schema, and record a version of it";

impl Guard {
    /// Says yes or no to the engine.
    pub(super) fn decide(&self, context: &AuthContext<'_>) -> Authorization {
        let mut watch = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let (Some(reads), AuthAction::Read { table_name, .. }) = (&mut watch.reads, &context.action) {
            reads.insert((*table_name).to_owned());
        }
        let Some(refusal) = watch.on else { return Authorization::Allow };
        match refusal(context) {
            // All rows of a table would be removed at once, without telling of each.
            None if matches!(context.action, AuthAction::Delete { .. }) => Authorization::Ignore,
            None => Authorization::Allow,
            Some(why) => {
                watch.refused.get_or_insert(why);
                Authorization::Deny
            }
        }
    }

    /// Runs `work` while statements are looked at, and says why one was refused, if one was.
    pub(super) fn watching<R>(&self, work: impl FnOnce() -> R) -> (R, Option<String>) {
        self.asking(refusal, work)
    }

    /// Runs `work`, and says which tables a statement that it prepares reads.
    pub(super) fn reads<R>(&self, work: impl FnOnce() -> R) -> (R, BTreeSet<String>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).reads = Some(BTreeSet::new());
        let result = work();
        (result, self.0.lock().unwrap_or_else(PoisonError::into_inner).reads.take().unwrap_or_default())
    }

    /// As [`Guard::watching`], of statements that make a file.
    pub(super) fn making<'c>(&self, prepare: Preparing<'_, 'c>) -> Prepared<'c> {
        self.asking(refusal_in_making, prepare)
    }

    /// As [`Guard::watching`], of statements that only create a table or index.
    pub(super) fn creating<'c>(&self, prepare: Preparing<'_, 'c>) -> Prepared<'c> {
        self.asking(refusal_in_creating, prepare)
    }

    fn asking<R>(
        &self,
        refusal: fn(&AuthContext<'_>) -> Option<String>,
        work: impl FnOnce() -> R,
    ) -> (R, Option<String>) {
        let set = |on| {
            let mut watch = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            watch.on = on;
            watch.refused.take()
        };
        set(Some(refusal));
        let result = work();
        (result, set(None))
    }
}

fn refusal(context: &AuthContext<'_>) -> Option<String> {
    match context.action {
        AuthAction::Select | AuthAction::Read { .. } | AuthAction::Recursive => None,
        AuthAction::Function { function_name } if !function_name.eq_ignore_ascii_case("load_extension") => None,
        AuthAction::Insert { table_name }
        | AuthAction::Update { table_name, .. }
        | AuthAction::Delete { table_name } => {
            match table_name {
                // What a trigger of ours writes there is none of the statement's doing.
                _ if context.accessor.is_some() => None,
                kept if kept.starts_with("velvet_") => Some(format!("it writes to `{kept}`, which is not the app's")),
                kept if kept.starts_with("sqlite_") => Some(STRUCTURE.into()),
                _ => None,
            }
        }
        AuthAction::Transaction { .. } | AuthAction::Savepoint { .. } => {
            Some("it begins or ends a transaction, which `write` does, and for a part of one `part`".into())
        }
        AuthAction::Pragma { pragma_name, pragma_value: None } if HARMLESS.contains(&pragma_name) => None,
        AuthAction::Pragma { pragma_name, pragma_value: Some(_) }
            if pragma_name.ends_with("_info") || pragma_name.ends_with("_list") =>
        {
            None
        }
        AuthAction::Pragma { pragma_name, .. } => {
            Some(format!("it is about the setting `{pragma_name}`, which opening decides"))
        }
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => {
            Some("it is about another file; open that one as a drawer".into())
        }
        AuthAction::Function { .. } => Some("it loads code".into()),
        _ => Some(STRUCTURE.into()),
    }
}

/// Why a statement does more than create a table or index.
fn refusal_in_creating(context: &AuthContext<'_>) -> Option<String> {
    let is_list = |table: &str| matches!(table, "sqlite_master" | "sqlite_schema" | "sqlite_sequence");
    match context.action {
        AuthAction::CreateTable { .. } | AuthAction::CreateIndex { .. } | AuthAction::Reindex { .. } => None,
        // What it computes of a row's columns is stored with the row.
        AuthAction::Function { function_name } if !function_name.eq_ignore_ascii_case("load_extension") => None,
        AuthAction::Read { .. } => None,
        AuthAction::Insert { table_name } | AuthAction::Update { table_name, .. } if is_list(table_name) => None,
        AuthAction::Select => Some("it computes rows of other tables".into()),
        AuthAction::Function { .. } => Some("it loads code".into()),
        _ => Some("it does more than create a table or index".into()),
    }
}

/// Why a statement is none of those that make a file.
fn refusal_in_making(context: &AuthContext<'_>) -> Option<String> {
    match context.action {
        AuthAction::Pragma { pragma_name: "application_id" | "user_version" | "encoding", .. } => None,
        AuthAction::Pragma { .. } => Some("it changes a setting".into()),
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => Some("it is about another file".into()),
        AuthAction::Function { function_name } if function_name.eq_ignore_ascii_case("load_extension") => {
            Some("it loads code".into())
        }
        AuthAction::Transaction { .. } | AuthAction::Savepoint { .. } => Some("it begins or ends a transaction".into()),
        AuthAction::DropTable { .. }
        | AuthAction::DropIndex { .. }
        | AuthAction::DropView { .. }
        | AuthAction::DropTrigger { .. } => Some("it drops something".into()),
        _ => None,
    }
}
