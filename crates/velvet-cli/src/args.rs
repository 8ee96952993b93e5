//! What can be typed.

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::{Path, PathBuf};
use velvet_drawer::inspect::Exchange;

/// Looks into the files of Velvet Drawer, and any other SQLite database. Reading changes nothing in a file or beside it.
///
/// `velvet FILE` alone is `velvet overview FILE`.
#[derive(Parser)]
#[command(
    name = "velvet",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 fine, 1 something is wrong or differs, 2 could not be done, 130 ended by Ctrl-C."
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
    /// For how many seconds the views of a file, and what else it computes, may run [default: 3]
    #[arg(long, value_name = "SECONDS", global = true)]
    pub(crate) within: Option<u64>,
    #[command(flatten)]
    pub(crate) keys: KeySource,
}

/// Where the keys of encrypted files are had from.
#[derive(Args)]
pub(crate) struct KeySource {
    /// A file with the key of an encrypted file: 64 hexadecimal digits, 32 bytes, or a pass phrase in its first line; may be given several times
    #[cfg(feature = "encryption")]
    #[arg(long, value_name = "FILE", global = true, help_heading = "Encrypted files")]
    pub(crate) key_file: Vec<PathBuf>,
    /// Ask for the key or pass phrase of an encrypted file
    #[cfg(feature = "encryption")]
    #[arg(long, global = true, help_heading = "Encrypted files")]
    pub(crate) ask_key: bool,
    /// What making a key of a pass phrase costs, where the app says otherwise: memory in KiB, and passes [default: 65536,3]
    #[cfg(feature = "encryption")]
    #[arg(long, value_name = "KIB,PASSES", value_delimiter = ',', global = true, help_heading = "Encrypted files", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) cost: Vec<u32>,
}

impl KeySource {
    /// Whether a key is to be typed, for which the terminal is needed.
    pub(crate) fn is_asked_for(&self) -> bool {
        #[cfg(feature = "encryption")]
        return self.ask_key;
        #[cfg(not(feature = "encryption"))]
        false
    }
}

/// In the order of the work: what is in a file, what happened, whether it is sound, and what goes in and out.
#[derive(Subcommand)]
pub(crate) enum Command {
    /// What a file holds: its app, schema version, tables and last sessions; of a folder, its databases
    Overview(Overview),
    /// The rows of a table, filtered and sorted
    Records(Records),
    /// One record in full: its values, its links (foreign keys) both ways, and its trail
    One(One),
    /// The rows that contain some words, in any column of any table
    Search(Search),
    /// Any read-only statement in SQL
    Query(Query),
    /// The schema, as text, JSON, SQL or a diagram; or how it differs from a history file
    Structure(Structure),
    /// Each start of the app: when it was, at which version, what it wrote, how it ended
    Sessions(Sessions),
    /// The history of records: what was written, when, by which session, and the values before
    Trail(Trail),
    /// What a running app writes, as it happens
    Follow(Follow),
    /// The differences (diff) between two files, or two copies of one, record by record
    Compare(Compare),
    /// Whether a file is sound: its pages, foreign keys, indexes and values
    Check(Check),
    /// Recovers what can be read of a damaged file into a new one
    Salvage(Salvage),
    /// A dry run of a migration on a complete copy: what it would do, and how long it takes
    Rehearse(Rehearse),
    /// Gives unused space back to the device (VACUUM)
    Compact(Compact),
    /// A complete copy (backup) of a file at one moment, also while an app writes
    Copy(Copy),
    /// Dumps a table, or everything, as JSON Lines, CSV or SQL, without loss
    Export(Export),
    /// Loads rows from JSON Lines, CSV or SQL: all of them or none
    Import(Import),
    /// Writes an attachment, a file kept inside the drawer, to a file of its own
    Attachment(Attachment),
    /// Runs the demo app through several starts on a pretend phone, then looks at what it stored
    Demo(Demo),
    /// Completions of commands and options, for a shell
    Completions(Completions),
}

impl Command {
    /// Whether it shows what may be longer than a screen, once and for all.
    pub(crate) fn may_be_long(&self) -> bool {
        matches!(
            self,
            Command::Overview(_)
                | Command::Records(_)
                | Command::One(_)
                | Command::Search(_)
                | Command::Query(_)
                | Command::Sessions(_)
                | Command::Trail(_)
                | Command::Structure(_)
                | Command::Compare(_)
                | Command::Check(_)
        )
    }
}

#[derive(Args)]
pub(crate) struct Demo {
    /// The folder for the pretend phone; a new or empty one, or that of an earlier demo, which is replaced. In the
    /// system's temporary folder unless given
    #[arg(long, value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet attachment kiln.drawer 3 --to bowl.png\n  \
    velvet attachment kiln.drawer K-101.png > bowl.png")]
pub(crate) struct Attachment {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Its number, its name, or the beginning of its hash; `velvet records FILE attachment` lists them
    pub(crate) attachment: String,
    /// The file to write, which must not be there yet. Without it, what is in the attachment goes to a pipe or `>` as it is, and a terminal is told of it
    #[arg(long, value_name = "PATH")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet overview kiln.drawer\n  velvet overview pulled-alone/")]
pub(crate) struct Overview {
    /// A database file, or a folder to find them in
    pub(crate) file: PathBuf,
    /// How to show it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet records kiln.drawer piece\n  \
    velvet records kiln.drawer piece --filter \"stage = 'bisque'\" --sort 'grams desc, mark'\n  \
    velvet records kiln.drawer piece --sort 'stage declared' --order own-key --columns mark,stage\n  \
    velvet records kiln.drawer article --columns number,name,cents --limit 20 --as csv")]
pub(crate) struct Records {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table; the beginning of its name is enough
    pub(crate) table: String,
    /// Only rows that satisfy this condition in SQL
    #[arg(long, value_name = "CONDITION", allow_hyphen_values = true)]
    pub(crate) filter: Option<String>,
    /// Sort by these columns, largest first with ` desc` behind one, and with ` declared` behind it in the order in which its choices
    /// are declared
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) sort: Vec<String>,
    /// In which order rows come that are equal in that, or all
    #[arg(long, value_name = "ORDER", value_enum, default_value_t = Order::Inserted)]
    pub(crate) order: Order,
    /// At most this many rows [default: 50 as a table, else all]
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<u64>,
    /// Leave out this many rows at the start
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) offset: u64,
    /// Show only these columns, in this order
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
    /// How to show the rows
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet one kiln.drawer piece K-101\n  \
    velvet one kiln.drawer piece '#25'")]
pub(crate) struct One {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table; the beginning of its name is enough
    pub(crate) table: String,
    /// The record's own key, or its row number with # before it; in other programs' tables the primary key, with commas between
    /// several columns
    #[arg(allow_negative_numbers = true)]
    pub(crate) key: String,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet search kiln.drawer hairline crack\n  \
    velvet search kiln.drawer celadon --table glaze --as json\n\n\
    All of the words must stand in a row, in whatever columns, whatever their case and accents.")]
pub(crate) struct Search {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The words
    #[arg(required = true)]
    pub(crate) words: Vec<String>,
    /// Look into this table only; may be given several times
    #[arg(long, value_name = "TABLE")]
    pub(crate) table: Vec<String>,
    /// At most this many rows
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub(crate) limit: u64,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet query kiln.drawer \"select clay, count(*) as pieces from piece group by clay\"\n  \
    velvet query kiln.drawer 'select * from firing' --as csv")]
pub(crate) struct Query {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// One statement in SQL
    pub(crate) statement: String,
    /// At most this many rows [default: 200 as a table, else all]
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<u64>,
    /// How to show the rows
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet sessions kiln.drawer\n  velvet sessions kiln.drawer --limit 3 --as json\n\n\
    What a session wrote: + inserted, ~ changed, - removed."
)]
pub(crate) struct Sessions {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Only the last of them
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) limit: u64,
    /// How to show them
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet trail kiln.drawer\n  \
    velvet trail kiln.drawer piece K-101\n  \
    velvet trail kiln.drawer --session 4 --as json")]
pub(crate) struct Trail {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Only what was written to this table
    pub(crate) table: Option<String>,
    /// Only what was written to this record: its own key, or its row number with # before it
    #[arg(allow_negative_numbers = true)]
    pub(crate) key: Option<String>,
    /// Only what this session wrote
    #[arg(long, value_name = "N")]
    pub(crate) session: Option<i64>,
    /// Only the last of them
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub(crate) limit: u64,
    /// How to show them
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet follow kiln.drawer\n  velvet follow kiln.drawer --seconds 60 --as json\n\n\
    Where the app keeps a trail, that is shown; else the file is compared with what it was."
)]
pub(crate) struct Follow {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// End after this many seconds [default: when it is ended]
    #[arg(long, value_name = "N")]
    pub(crate) seconds: Option<u64>,
    /// How to tell it; as JSON, a line for each
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet copy kiln.drawer kiln-copy.drawer\n  velvet copy kiln.drawer for-support.drawer --without-private"
)]
pub(crate) struct Copy {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The new file, which must not be there yet
    pub(crate) to: PathBuf,
    /// Leave out the values of columns that are declared private
    #[arg(long)]
    pub(crate) without_private: bool,
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet salvage damaged.drawer saved.drawer\n\n\
    The damaged file is only read. Exit code 1 when something could not be saved.")]
pub(crate) struct Salvage {
    /// A damaged database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The new file, which must not be there yet
    pub(crate) to: PathBuf,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  velvet compact kiln.drawer\n\nThe file is written anew in one transaction; an app may have it open."
)]
pub(crate) struct Compact {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet export kiln.drawer glaze --as csv --to glazes.csv\n  \
    velvet export kiln.drawer --to kiln.jsonl\n  \
    velvet export kiln.drawer --as sql --to kiln.sql")]
pub(crate) struct Export {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table [default: everything]
    pub(crate) table: Option<String>,
    /// In what form [default: as the end of the new file's name says, else JSON Lines]
    #[arg(long = "as", value_name = "FORM", value_enum)]
    pub(crate) form: Option<ExchangeForm>,
    /// A new file for it [default: the output]
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet export kiln.drawer shelf --as csv | velvet import empty.drawer - --as csv --table shelf\n  \
    velvet export kiln.drawer --as sql | velvet import new.drawer - --as sql\n\n\
    All rows or none: each line that does not fit is named, and then nothing is written.")]
pub(crate) struct Import {
    /// The file that gets the rows; of SQL a new one, which must not be there yet
    pub(crate) file: PathBuf,
    /// What to import, or - for the input
    pub(crate) from: PathBuf,
    /// The table, where what is imported does not name it
    #[arg(long, value_name = "TABLE")]
    pub(crate) table: Option<String>,
    /// In what form it is [default: as the end of its name says]
    #[arg(long = "as", value_name = "FORM", value_enum)]
    pub(crate) form: Option<ExchangeForm>,
}

/// In what form rows go out and come in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExchangeForm {
    /// JSON Lines
    Json,
    /// Comma-separated values, of one table
    Csv,
    /// Statements in SQL
    Sql,
}

impl ExchangeForm {
    /// The form that the end of a name tells.
    pub(crate) fn of_name(path: &Path) -> Option<ExchangeForm> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "json" | "jsonl" | "ndjson" => Some(ExchangeForm::Json),
            "csv" => Some(ExchangeForm::Csv),
            "sql" => Some(ExchangeForm::Sql),
            _ => None,
        }
    }
}

impl From<ExchangeForm> for Exchange {
    fn from(form: ExchangeForm) -> Exchange {
        match form {
            ExchangeForm::Json => Exchange::JsonLines,
            ExchangeForm::Csv => Exchange::Csv,
            ExchangeForm::Sql => Exchange::SqlText,
        }
    }
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet completions bash > velvet.bash")]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_enum)]
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet structure kiln.drawer\n  \
    velvet structure kiln.drawer --as diagram | dot -Tsvg > kiln.svg\n  \
    velvet structure kiln.drawer --against kilnbook.history.json\n\n\
    With --against, the exit code is 1 when the file is not as its version was recorded.")]
pub(crate) struct Structure {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// How to show it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = StructureForm::Text)]
    pub(crate) form: StructureForm,
    /// Say how the file differs from this history file, and what an upgrade would do
    #[arg(long, value_name = "HISTORY", conflicts_with = "form")]
    pub(crate) against: Option<PathBuf>,
}

/// The order of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Order {
    /// As they were inserted
    Inserted,
    /// By the records' own key, or the primary key
    OwnKey,
}

/// How a structure comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum StructureForm {
    /// Tables for people
    Text,
    /// JSON
    Json,
    /// The statements that create it
    Sql,
    /// A graph in the DOT language
    Diagram,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet check kiln.drawer\n  velvet check pulled-alone/ --as json\n\n\
    The file is only read. Exit code 1 when something is wrong.")]
pub(crate) struct Check {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet compare yesterday.drawer kiln.drawer\n  \
    velvet compare yesterday.drawer kiln.drawer --as json\n\n\
    Exit code 1 when the records or the structures differ.")]
pub(crate) struct Compare {
    /// The file before, or a folder with one drawer in it
    pub(crate) before: PathBuf,
    /// The file after, or a folder with one drawer in it
    pub(crate) after: PathBuf,
    /// Show at most this many differences of each table
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) limit: u64,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet rehearse kiln-at-version-1.drawer --history kilnbook.history.json\n\n\
    The file itself is only read. Exit code 1 when the upgrade would fail.")]
pub(crate) struct Rehearse {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The app's history file
    #[arg(long, value_name = "HISTORY")]
    pub(crate) history: PathBuf,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

/// How a report comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Telling {
    /// Text for people
    Text,
    /// JSON
    Json,
}

/// How rows come out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// A table for people, fitted to the terminal
    Table,
    /// JSON
    Json,
    /// Comma-separated values with a head line
    Csv,
}
