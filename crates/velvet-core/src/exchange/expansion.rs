//! How many parts a statement grows to when every view in it is replaced by what it stands for.
//!
//! Forty views of a line each, which each name the one before twice, grow to half a trillion parts. The engine replaces them all while it prepares a
//! statement, and cannot be stopped meanwhile; so it is worked out here before.

use crate::exchange::sql_text::{Token, tokens};
use std::collections::HashMap;
use std::ops::Range;

/// The views of a file, and what is known of each.
#[derive(Debug, Default)]
pub struct Views {
    /// Their statements, by name in small letters.
    statements: HashMap<String, String>,
    grown: HashMap<String, u64>,
    /// How many views and definitions are being worked out, each for the one before.
    depth: usize,
}

/// How deep views may stand for each other. What is deeper counts as endless: following it would need a stack as deep.
const DEEPEST: usize = 100;

/// How many definitions a statement may have, and how many words with them; more counts as endless, and would take long to follow.
const MOST: (usize, usize) = (200, 100_000);

impl Views {
    /// Of these names and statements.
    pub fn new(views: impl IntoIterator<Item = (String, String)>) -> Views {
        let statements = views.into_iter().map(|(name, statement)| (name.to_lowercase(), statement)).collect();
        Views { statements, grown: HashMap::new(), depth: 0 }
    }

    /// How many parts a statement grows to.
    ///
    /// ```
    /// use velvet_core::exchange::expansion::Views;
    /// let twice = |n: u32| (format!("v{n}"), format!("CREATE VIEW v{n} AS SELECT a.x FROM v{} a, v{} b", n - 1, n - 1));
    /// let mut views = Views::new((1..40).map(twice));
    /// assert_eq!(views.grown("select * from t"), 1);
    /// assert_eq!(views.grown("select * from v3"), 8);
    /// assert!(views.grown("select * from \"V39\"") > 500_000_000_000);
    /// let within = "with a as (select 1), b as (select * from a, a x), c as (select * from b, b x) select * from c, c x";
    /// assert_eq!(views.grown(within), 15);
    /// let chain = (1..50_000).map(|n| (format!("v{n}"), format!("CREATE VIEW v{n} AS SELECT x FROM v{}", n - 1)));
    /// assert_eq!(Views::new(chain).grown("select * from v49999"), u64::MAX);
    /// ```
    pub fn grown(&mut self, statement: &str) -> u64 {
        let tokens = tokens(statement);
        let definitions = definitions(&tokens);
        let is_much = definitions.len() > MOST.0 || !definitions.is_empty() && tokens.len() > MOST.1;
        if is_much || self.depth > DEEPEST {
            return u64::MAX;
        }
        self.depth += 1;
        let mut within = Within { definitions, tokens: &tokens, grown: HashMap::new() };
        let grown = within.part(0..tokens.len(), self);
        self.depth -= 1;
        grown
    }

    fn view(&mut self, name: &str) -> Option<u64> {
        if let Some(grown) = self.grown.get(name) {
            return Some(*grown);
        }
        let statement = self.statements.get(name)?.clone();
        // One that names itself leads nowhere, which the engine says.
        self.grown.insert(name.to_owned(), 1);
        // Its own name stands in the statement that creates it.
        let grown = self.grown(&statement).saturating_sub(1);
        self.grown.insert(name.to_owned(), grown);
        Some(grown)
    }
}

/// What a statement defines for itself: the name, and where what it stands for is.
fn definitions(tokens: &[Token<'_>]) -> Vec<(String, Range<usize>)> {
    let is = |at: usize, word: &str| tokens.get(at).is_some_and(|t| t.is(word));
    let mut all = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        let Token::Word(name) = token else { continue };
        let mut next = at + 1;
        if matches!(tokens.get(next), Some(Token::Open)) {
            next = end(tokens, next);
        }
        if !is(next, "as") {
            continue;
        }
        next += 1 + usize::from(is(next + 1, "not"));
        next += usize::from(is(next, "materialized"));
        if matches!(tokens.get(next), Some(Token::Open)) {
            all.push((name.to_lowercase(), next..end(tokens, next)));
        }
        if all.len() > MOST.0 {
            break;
        }
    }
    all
}

/// Behind the parenthesis that closes the one at `open`.
fn end(tokens: &[Token<'_>], open: usize) -> usize {
    let mut depth = 0_usize;
    for (at, token) in tokens.iter().enumerate().skip(open) {
        match token {
            Token::Open => depth += 1,
            Token::Close if depth == 1 => return at + 1,
            Token::Close => depth -= 1,
            Token::Word(_) => {}
        }
    }
    tokens.len()
}

struct Within<'t> {
    tokens: &'t [Token<'t>],
    definitions: Vec<(String, Range<usize>)>,
    grown: HashMap<usize, u64>,
}

impl Within<'_> {
    fn part(&mut self, range: Range<usize>, views: &mut Views) -> u64 {
        let (mut grown, mut at) = (1_u64, range.start);
        while at < range.end {
            let skipped = self.definitions.iter().find(|(_, body)| body.start == at && *body != range);
            if let Some((_, body)) = skipped {
                at = body.end;
                continue;
            }
            if let Token::Word(word) = &self.tokens[at] {
                let word = word.to_lowercase();
                // Before its body stands only the name that is defined.
                let defined = |(name, body): &(String, Range<usize>)| *name == word && body.start < at;
                let more = match self.definitions.iter().position(defined) {
                    Some(definition) => Some(self.definition(definition, views)),
                    None if self.definitions.iter().any(|(name, _)| *name == word) => None,
                    None => views.view(&word),
                };
                grown = grown.saturating_add(more.unwrap_or_default());
            }
            at += 1;
        }
        grown
    }

    fn definition(&mut self, at: usize, views: &mut Views) -> u64 {
        if let Some(grown) = self.grown.get(&at) {
            return *grown;
        }
        // One that names itself is worked out row by row.
        self.grown.insert(at, 0);
        if views.depth > DEEPEST {
            return u64::MAX;
        }
        views.depth += 1;
        let grown = self.part(self.definitions[at].1.clone(), views);
        views.depth -= 1;
        self.grown.insert(at, grown);
        grown
    }
}
