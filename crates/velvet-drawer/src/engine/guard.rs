//! What statements that an app wrote itself may do.

use parking_lot::Mutex;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use std::collections::BTreeSet;
use std::sync::Arc;

/// Refuses what an app's own statements must not do, while one of them is prepared. Our own are not looked at.
#[derive(Clone, Default)]
pub(super) struct Guard(Arc<Mutex<Watching>>);

#[derive(Default)]
struct Watching {
    on: Option<fn(&AuthContext<'_>) -> Option<String>>,
    refused: Option<String>,
    /// The tables and columns of names that sealed values are bound to.
    names: Arc<[(String, String)]>,
    /// The tables that are read, while somebody wants to know.
    reads: Option<BTreeSet<String>>,
    /// Whether something is computed that the file or a person defined: a view, or what calls itself.
    computes: bool,
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
        let mut watch = self.0.lock();
        if let (Some(reads), AuthAction::Read { table_name, .. }) = (&mut watch.reads, &context.action) {
            reads.insert((*table_name).to_owned());
        }
        watch.computes |= context.accessor.is_some() || matches!(context.action, AuthAction::Recursive);
        let Some(refusal) = watch.on else { return Authorization::Allow };
        match refusal(context).or_else(|| watch.renames(context)) {
            // All rows of a table would be removed at once, without telling of each.
            None if matches!(context.action, AuthAction::Delete { .. }) => Authorization::Ignore,
            None => Authorization::Allow,
            Some(why) => {
                watch.refused.get_or_insert(why);
                Authorization::Deny
            }
        }
    }

    /// These are the columns of names that sealed values are bound to.
    pub(super) fn keep_names(&self, names: &Arc<[(String, String)]>) {
        self.0.lock().names = Arc::clone(names);
    }

    /// Runs `work` while statements are looked at, and says why one was refused, if one was.
    pub(super) fn watching<R>(&self, work: impl FnOnce() -> R) -> (R, Option<String>) {
        self.asking(refusal, work)
    }

    /// Runs `work`, and says which tables a statement that it prepares reads.
    pub(super) fn reads<R>(&self, work: impl FnOnce() -> R) -> (R, BTreeSet<String>) {
        self.0.lock().reads = Some(BTreeSet::new());
        let result = work();
        (result, self.0.lock().reads.take().unwrap_or_default())
    }

    /// Runs `work`, and says whether a statement that it prepares computes what the file or a person defined.
    pub(super) fn computes<R>(&self, work: impl FnOnce() -> R) -> (R, bool) {
        self.0.lock().computes = false;
        let result = work();
        (result, self.0.lock().computes)
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
            let mut watch = self.0.lock();
            watch.on = on;
            watch.refused.take()
        };
        set(Some(refusal));
        let result = work();
        (result, set(None))
    }
}

impl Watching {
    /// Why a statement must not rename a sealed value: it would not open any more.
    fn renames(&self, context: &AuthContext<'_>) -> Option<String> {
        let AuthAction::Update { table_name, column_name } = context.action else { return None };
        let is_name = |(table, column): &&(String, String)| table == table_name && column == column_name;
        let (table, column) = self.names.iter().find(is_name).filter(|_| context.accessor.is_none())?;
        Some(format!(
            "it changes `{table}.{column}`, the name that sealed values are bound to; rename one with `change` or `update`"
        ))
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
        // A trigger that was created before may do what triggers do.
        _ if context.accessor.is_some() => refusal_in_triggers(context),
        AuthAction::Pragma { pragma_name: "application_id" | "user_version" | "encoding", .. } => None,
        AuthAction::CreateTable { .. }
        | AuthAction::CreateIndex { .. }
        | AuthAction::CreateView { .. }
        | AuthAction::CreateTrigger { .. }
        | AuthAction::CreateVtable { .. }
        | AuthAction::Reindex { .. }
        | AuthAction::Insert { .. }
        | AuthAction::Select
        | AuthAction::Read { .. }
        | AuthAction::Function { .. }
        | AuthAction::Recursive => None,
        // Creating something is written there.
        AuthAction::Update { table_name: "sqlite_master" | "sqlite_schema", .. } => None,
        _ => Some(told_in_making(context)),
    }
    .or_else(|| loads_code(context))
}

fn refusal_in_triggers(context: &AuthContext<'_>) -> Option<String> {
    match context.action {
        AuthAction::Insert { .. }
        | AuthAction::Update { .. }
        | AuthAction::Delete { .. }
        | AuthAction::Select
        | AuthAction::Read { .. }
        | AuthAction::Recursive
        | AuthAction::Function { .. } => None,
        _ => Some(told_in_making(context)),
    }
}

fn loads_code(context: &AuthContext<'_>) -> Option<String> {
    let AuthAction::Function { function_name } = context.action else { return None };
    function_name.eq_ignore_ascii_case("load_extension").then(|| "it loads code".into())
}

fn told_in_making(context: &AuthContext<'_>) -> String {
    match context.action {
        AuthAction::Pragma { pragma_name, .. } => format!("it changes the setting `{pragma_name}`"),
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => "it is about another file".into(),
        AuthAction::Transaction { .. } | AuthAction::Savepoint { .. } => "it begins or ends a transaction".into(),
        AuthAction::AlterTable { table_name, .. } => format!("it changes the table `{table_name}`"),
        AuthAction::Delete { table_name: "sqlite_master" | "sqlite_schema" } => "it drops something".into(),
        AuthAction::Delete { table_name } => format!("it removes rows of `{table_name}`"),
        AuthAction::Update { table_name, .. } => format!("it changes rows of `{table_name}`"),
        _ => "it neither creates nor inserts".into(),
    }
}
