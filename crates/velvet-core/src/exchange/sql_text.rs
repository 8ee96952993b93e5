//! Text in SQL, taken apart as far as is needed without the engine: into statements and words.

/// The statements of a text, each with the number of the line on which it begins. They are told apart by semicolons outside of quotes,
/// comments and the bodies of triggers.
///
/// ```
/// use velvet_core::exchange::sql_text::statements;
/// let text = "create table t (a); -- one; two\ncreate trigger x after insert on t begin select case 1 when 1 then 2 end; end;";
/// let statements = statements(text);
/// assert_eq!(statements[0], (1, "create table t (a)"));
/// assert!(statements[1].0 == 2 && statements[1].1.ends_with("2 end; end") && statements.len() == 2);
/// ```
pub fn statements(text: &str) -> Vec<(usize, &str)> {
    let bytes = text.as_bytes();
    let (mut all, mut at, mut line) = (Vec::new(), 0, 1);
    // Where the statement begins, on which line, whether anything of it was seen but comments, and how many words.
    let (mut begin, mut begun_on, mut is_begun, mut words) = (0, 1, false, 0);
    let (mut is_trigger, mut body) = (false, Body::Inside);
    while at < bytes.len() {
        let rest = &text[at..];
        let was_begun = is_begun;
        let skipped = skipped(rest);
        is_begun |= bytes[at] != b';' && !bytes[at].is_ascii_whitespace() && !is_comment(rest);
        let next = match bytes[at] {
            _ if skipped > 0 => at + skipped,
            b';' if is_trigger && body != Body::Ended => {
                body = Body::AfterStatement;
                at + 1
            }
            b';' => {
                if is_begun {
                    all.push((begun_on, text[begin..at].trim()));
                }
                (is_begun, words, is_trigger, body) = (false, 0, false, Body::Inside);
                at + 1
            }
            byte if byte.is_ascii_alphabetic() || byte == b'_' => {
                let word = word(rest);
                words += 1;
                is_trigger |= words <= 3 && word.eq_ignore_ascii_case("trigger");
                let ends = body == Body::AfterStatement && word.eq_ignore_ascii_case("end");
                body = if ends { Body::Ended } else { Body::Inside };
                at + word.len()
            }
            _ => at + rest.chars().next().map_or(1, char::len_utf8),
        };
        if is_begun && !was_begun {
            (begin, begun_on) = (at, line);
        }
        line += text[at..next].matches('\n').count();
        at = next;
    }
    if is_begun {
        all.push((begun_on, text[begin..].trim()));
    }
    all
}

fn is_comment(text: &str) -> bool {
    text.starts_with("--") || text.starts_with("/*")
}

/// How long the quoted name, text or comment is with which a text begins; 0 where it begins with none.
fn skipped(text: &str) -> usize {
    let to = |end: Option<usize>, length: usize| end.map_or(text.len(), |end| end + length);
    match text.as_bytes().first() {
        Some(quote @ (b'\'' | b'"' | b'`')) => to(text[1..].find(char::from(*quote)), 2),
        Some(b'[') => to(text.find(']'), 1),
        Some(b'-') if text.starts_with("--") => to(text.find('\n'), 0),
        Some(b'/') if text.starts_with("/*") => to(text.find("*/"), 2),
        _ => 0,
    }
}

/// The word with which a text begins.
fn word(text: &str) -> &str {
    &text[..text.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len())]
}

/// Whether a statement has this word, in small or large letters, outside of quotes and comments.
///
/// ```
/// use velvet_core::exchange::sql_text::has_word;
/// assert!(has_word("select 1 Where 1", "where"));
/// assert!(!has_word("select \"where\", 'where', nowhere from t -- where", "where"));
/// ```
pub fn has_word(statement: &str, wanted: &str) -> bool {
    count_of_word(statement, wanted) > 0
}

/// How often a statement has a word outside of names, literals and comments.
pub fn count_of_word(statement: &str, wanted: &str) -> usize {
    let (mut rest, mut count) = (statement, 0);
    while let Some(first) = rest.chars().next() {
        let found = word(rest);
        count += usize::from(found.eq_ignore_ascii_case(wanted));
        rest = &rest[skipped(rest).max(found.len()).max(first.len_utf8())..];
    }
    count
}

/// How far the body of a trigger has come.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Body {
    Inside,
    AfterStatement,
    Ended,
}

/// What stands behind the columns of a statement that creates a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TableOptions {
    /// Whether the table checks the types of its values.
    pub strict: bool,
    /// Whether its rows have no numbers of their own.
    pub without_row_numbers: bool,
}

/// What stands behind the columns of a statement that creates a table.
///
/// ```
/// use velvet_core::exchange::sql_text::table_options;
/// assert!(table_options("create table \"a)\" (a /* ) */, check (a > 1)) strict -- without rowid").strict);
/// assert!(table_options("create table t (a primary key) WITHOUT  rowid").without_row_numbers);
/// ```
pub fn table_options(statement: &str) -> TableOptions {
    let (mut rest, mut depth) = (statement, 0_usize);
    let mut behind: Vec<&str> = Vec::new();
    while let Some(first) = rest.chars().next() {
        let (skipped, found) = (skipped(rest), word(rest));
        match first {
            '(' => depth += 1,
            ')' => {
                depth = depth.saturating_sub(1);
                behind.clear();
            }
            _ if depth == 0 && !found.is_empty() => behind.push(found),
            _ => {}
        }
        rest = &rest[skipped.max(found.len()).max(first.len_utf8())..];
    }
    let is = |at: usize, word: &str| behind.get(at).is_some_and(|found| found.eq_ignore_ascii_case(word));
    TableOptions {
        strict: (0..behind.len()).any(|at| is(at, "strict")),
        without_row_numbers: (0..behind.len()).any(|at| is(at, "without") && is(at + 1, "rowid")),
    }
}

/// A piece of a statement.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Token<'t> {
    /// A name, number or keyword, without the quotes around it.
    Word(&'t str),
    /// An opening parenthesis.
    Open,
    /// A closing one.
    Close,
}

impl Token<'_> {
    /// Whether it is this word, in small or large letters.
    pub fn is(&self, wanted: &str) -> bool {
        matches!(self, Token::Word(word) if word.eq_ignore_ascii_case(wanted))
    }
}

/// The words and parentheses of a statement, without texts and comments.
///
/// ```
/// use velvet_core::exchange::sql_text::{Token, tokens};
/// assert_eq!(tokens("a (\"b c\") -- d"), [Token::Word("a"), Token::Open, Token::Word("b c"), Token::Close]);
/// assert_eq!(tokens("[陶"), [Token::Word("陶")]);
/// ```
pub fn tokens(statement: &str) -> Vec<Token<'_>> {
    let (mut all, mut rest) = (Vec::new(), statement);
    while let Some(first) = rest.chars().next() {
        let (skipped, found) = (skipped(rest), word(rest));
        match first {
            '(' => all.push(Token::Open),
            ')' => all.push(Token::Close),
            '"' | '`' | '[' => {
                // One that never ends has no sign at its end.
                let name = &rest[1..skipped];
                all.push(Token::Word(name.strip_suffix(['"', '`', ']']).unwrap_or(name)));
            }
            _ if !found.is_empty() => all.push(Token::Word(found)),
            _ => {}
        }
        rest = &rest[skipped.max(found.len()).max(first.len_utf8())..];
    }
    all
}
