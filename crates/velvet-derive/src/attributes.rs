//! Reading `#[record(…)]` and `#[choice(…)]`: words, words with a value, words with a list.

use crate::names::suggestion;
use crate::problems::Problems;
use proc_macro2::{Span, TokenTree};
use syn::meta::ParseNestedMeta;
use syn::{Attribute, Ident, LitStr, Path, Token, token};

/// A word, and how it is read into the model: so that none is known and not read.
pub(crate) type Word<M> = (&'static str, fn(&mut M, Span, &ParseNestedMeta) -> syn::Result<()>);

/// Reads the attributes called `name` into the model. A word that is not among the `words` is a problem, as is one that its reader refuses; the words after it
/// are read all the same.
pub(crate) fn read<M>(attributes: &[Attribute], name: &str, words: &[Word<M>], problems: &mut Problems, model: &mut M) {
    let mut seen = Vec::new();
    for attribute in attributes.iter().filter(|a| a.path().is_ident(name)) {
        let parsed = attribute.parse_nested_meta(|meta| {
            let word = meta.path.get_ident().map(Ident::to_string).unwrap_or_default();
            // A word with a list says something of those in it, so it may come again with others.
            let is_again = seen.contains(&word) && !meta.input.peek(token::Paren);
            let result = match words.iter().find(|(known, _)| *known == word) {
                None => Err(unknown(&word, &words.iter().map(|(known, _)| *known).collect::<Vec<_>>(), &meta)),
                Some(_) if is_again => Err(meta.error(format!("`{word}` is written twice; keep one of them"))),
                Some((_, read)) => read(model, meta.path.get_ident().map_or_else(Span::call_site, Ident::span), &meta),
            };
            seen.push(word);
            if let Err(error) = result {
                problems.add(error);
                while !meta.input.is_empty() && !meta.input.peek(Token![,]) {
                    meta.input.parse::<TokenTree>()?;
                }
            }
            Ok(())
        });
        if let Err(error) = parsed {
            problems.add(error);
        }
    }
}

fn unknown(word: &str, known: &[&str], meta: &ParseNestedMeta) -> syn::Error {
    if word == "key" && known.contains(&"own_key") {
        return meta.error(
            "`key` is always the row number, which every record has; for a field that tells one record from another write `own_key`",
        );
    }
    let list = known.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>().join(", ");
    meta.error(format!("`{word}` is not known here{}\nknown: {list}", suggestion(word, known.iter().copied())))
}

/// The text of `word = "…"`.
pub(crate) fn text(meta: &ParseNestedMeta) -> syn::Result<LitStr> {
    let word = meta.path.get_ident().map(Ident::to_string).unwrap_or_default();
    meta.value()
        .and_then(|value| value.parse())
        .map_err(|e| syn::Error::new(e.span(), format!("expected a text: `{word} = \"…\"`")))
}

/// The path of the library, in `library = "…"`.
pub(crate) fn library(meta: &ParseNestedMeta) -> syn::Result<Path> {
    text(meta)?.parse()
}
