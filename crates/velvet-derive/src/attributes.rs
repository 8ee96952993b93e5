//! Reading `#[record(…)]` and `#[choice(…)]`: words, words with a value, words with a list.

use crate::names::suggestion;
use crate::problems::Problems;
use proc_macro2::TokenTree;
use syn::meta::ParseNestedMeta;
use syn::{Attribute, LitStr, Token, token};

/// Calls `read` for each word in the attributes called `name`. A word that is not among the `known` ones is a problem,
/// as is one that `read` refuses; the words after it are read all the same.
pub(crate) fn each(
    attributes: &[Attribute],
    name: &str,
    known: &[&str],
    problems: &mut Problems,
    mut read: impl FnMut(&str, &ParseNestedMeta) -> syn::Result<()>,
) {
    let mut seen = Vec::new();
    for attribute in attributes.iter().filter(|a| a.path().is_ident(name)) {
        let parsed = attribute.parse_nested_meta(|meta| {
            let word = meta.path.get_ident().map(syn::Ident::to_string).unwrap_or_default();
            // A word with a list says something of those in it, so it may come again with others.
            let is_again = seen.contains(&word) && !meta.input.peek(token::Paren);
            let result = match known.contains(&word.as_str()) {
                false => Err(unknown(&word, known, &meta)),
                true if is_again => Err(meta.error(format!("`{word}` is written twice; keep one of them"))),
                true => read(&word, &meta),
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
    let word = meta.path.get_ident().map(syn::Ident::to_string).unwrap_or_default();
    meta.value()
        .and_then(|value| value.parse())
        .map_err(|e| syn::Error::new(e.span(), format!("expected a text: `{word} = \"…\"`")))
}
