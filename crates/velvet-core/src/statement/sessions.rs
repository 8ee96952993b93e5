//! The table in which a file keeps its sessions.

/// The table of sessions.
pub const SESSIONS: &str = "velvet_sessions";

/// Creates the table of sessions. What is a list is JSON.
pub const CREATE_SESSIONS: &str = "CREATE TABLE velvet_sessions (session INTEGER PRIMARY KEY AUTOINCREMENT, \
    began_at TEXT NOT NULL, app_version TEXT, schema_version INTEGER NOT NULL, opened TEXT, process INTEGER NOT NULL, \
    process_began INTEGER, state TEXT NOT NULL, noted_at TEXT NOT NULL, found_open_by INTEGER, \
    wrote TEXT NOT NULL, background TEXT NOT NULL) STRICT";
