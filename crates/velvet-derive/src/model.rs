//! A record or an excerpt as its type and attributes describe it, before anything is checked.

use crate::attributes::{self, Word};
use crate::names;
use crate::problems::Problems;
use proc_macro2::Span;
use syn::meta::ParseNestedMeta;
use syn::{Data, DataStruct, DeriveInput, Expr, Fields, GenericArgument, Ident, Path, PathArguments, Type, Visibility};

/// A struct with `#[derive(Record)]`.
pub(crate) struct Record {
    pub ident: Ident,
    pub vis: Visibility,
    pub table: Name,
    pub fields: Vec<Field>,
    /// Lists of fields from `unique(…)` and `indexed(…)` on the struct; the flag says which.
    pub groups: Vec<(Vec<Ident>, bool)>,
    pub origin: Option<(Span, WasOrNew)>,
    pub shared: Option<Span>,
    /// Whether it is a name and a value.
    pub named: Option<Span>,
    pub library: Path,
    /// Whether it has lifetimes or type parameters, which it must not.
    pub generic: bool,
}

/// One of its fields.
pub(crate) struct Field {
    pub ident: Ident,
    pub vis: Visibility,
    pub ty: Type,
    pub column: Name,
    pub own_key: Option<Span>,
    pub unique: Option<Span>,
    pub indexed: Option<Span>,
    pub json: Option<Span>,
    pub searchable: Option<(Span, f64)>,
    pub private: Option<Span>,
    pub ignore_case: Option<Span>,
    /// Whether its values are sealed, and the label where one is given.
    pub sealed: Option<(Span, Option<String>)>,
    /// Whether what is nothing of its type is read as the type's default.
    pub fallback: Option<Span>,
    pub skip: Option<Span>,
    pub default: Option<(Span, Option<Expr>)>,
    pub link: Option<(Span, Rule)>,
    pub remove_unlinked: Option<Span>,
    /// Whether the library fills it: at each write, or only when the record is inserted.
    pub created: Option<Span>,
    pub changed: Option<Span>,
    pub origin: Option<(Span, WasOrNew)>,
    pub fill: Option<(Span, String)>,
}

/// Where a table or column comes from.
pub(crate) enum WasOrNew {
    Was(String),
    New,
}

/// The name of a table or column, and where it was given.
pub(crate) struct Name {
    pub text: String,
    pub at: Span,
}

impl Name {
    /// The name that follows from a Rust name.
    fn of(ident: &Ident) -> Name {
        Name { text: names::stored(ident), at: ident.span() }
    }

    /// The name in `name = "…"`.
    fn given(meta: &ParseNestedMeta) -> syn::Result<Name> {
        let name = attributes::text(meta)?;
        Ok(Name { text: name.value(), at: name.span() })
    }
}

/// What happens to a record when the one it links to is removed.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Rule {
    Refuse,
    Clear,
    Remove,
}

const ON_STRUCT: &[Word<Record>] = &[
    ("name", |record, _, meta| Name::given(meta).map(|name| record.table = name)),
    ("unique", |record, _, meta| idents(meta).map(|group| record.groups.push((group, true)))),
    ("indexed", |record, _, meta| idents(meta).map(|group| record.groups.push((group, false)))),
    ("was", |record, at, meta| was(&mut record.origin, at, meta)),
    ("new", |record, at, _| set_origin(&mut record.origin, at, WasOrNew::New)),
    ("shared", |record, at, _| set(&mut record.shared, at)),
    ("named", |record, at, _| set(&mut record.named, at)),
    ("library", |record, _, meta| attributes::library(meta).map(|path| record.library = path)),
];

const NAME: Word<Field> = ("name", |field, _, meta| Name::given(meta).map(|name| field.column = name));
const JSON: Word<Field> = ("json", |field, at, _| set(&mut field.json, at));
const FALLBACK: Word<Field> = ("fallback", |field, at, _| set(&mut field.fallback, at));
const SEALED: Word<Field> = ("sealed", |field, at, meta| {
    let label = meta.input.peek(syn::Token![=]).then(|| attributes::text(meta)).transpose()?;
    set(&mut field.sealed, (at, label.map(|label| label.value())))
});

const ON_FIELD: &[Word<Field>] = &[
    NAME,
    ("own_key", |field, at, _| set(&mut field.own_key, at)),
    ("unique", |field, at, _| set(&mut field.unique, at)),
    ("indexed", |field, at, _| set(&mut field.indexed, at)),
    JSON,
    ("searchable", |field, at, meta| weight(meta).map(|weight| field.searchable = Some((at, weight)))),
    ("ignore_case", |field, at, _| set(&mut field.ignore_case, at)),
    ("private", |field, at, _| set(&mut field.private, at)),
    SEALED,
    ("skip", |field, at, _| set(&mut field.skip, at)),
    ("default", |field, at, meta| {
        let value = if meta.input.peek(syn::Token![=]) { Some(meta.value()?.parse()?) } else { None };
        set(&mut field.default, (at, value))
    }),
    FALLBACK,
    ("link", |field, at, meta| rule(meta).map(|rule| field.link = Some((at, rule)))),
    ("remove_unlinked", |field, at, _| set(&mut field.remove_unlinked, at)),
    ("created", |field, at, _| set(&mut field.created, at)),
    ("changed", |field, at, _| set(&mut field.changed, at)),
    ("was", |field, at, meta| was(&mut field.origin, at, meta)),
    ("new", |field, at, _| set_origin(&mut field.origin, at, WasOrNew::New)),
    ("fill", |field, at, meta| attributes::text(meta).map(|fill| field.fill = Some((at, fill.value())))),
];

/// The words on a field of an excerpt.
const ON_PART: &[Word<Field>] = &[NAME, JSON, FALLBACK, SEALED];

const ON_EXCERPT: &[Word<Excerpt>] = &[
    ("of", |excerpt, _, meta| {
        excerpt.of = Some(meta.value()?.parse()?);
        Ok(())
    }),
    ("library", |excerpt, _, meta| attributes::library(meta).map(|path| excerpt.library = path)),
];

/// Notes what a word said.
fn set<T>(place: &mut Option<T>, value: T) -> syn::Result<()> {
    *place = Some(value);
    Ok(())
}

impl Record {
    /// Reads the struct, or nothing when it is no struct that could be a record; what is wrong goes to `problems`.
    pub(crate) fn read(input: DeriveInput, problems: &mut Problems) -> Option<Record> {
        let generic = !input.generics.params.is_empty();
        if generic {
            problems.at(
                &input.generics,
                "a record owns its data and has one table, so it can have no lifetimes and no type parameters; \
                 derive Record on a concrete type with owned fields",
            );
        }
        let named = match input.data {
            Data::Struct(data) => match data.fields {
                Fields::Named(fields) => fields.named,
                Fields::Unnamed(_) | Fields::Unit => {
                    problems.at(&input.ident, "a record needs named fields, because a column is named after its field");
                    return None;
                }
            },
            Data::Enum(_) => {
                problems.at(
                    &input.ident,
                    "an enumeration cannot be a record; to store it in a column, derive Choice on it",
                );
                return None;
            }
            Data::Union(_) => {
                problems.at(&input.ident, "a union cannot be a record; use a struct with named fields");
                return None;
            }
        };

        let mut record = Record {
            table: Name::of(&input.ident),
            ident: input.ident,
            vis: input.vis,
            fields: Vec::new(),
            groups: Vec::new(),
            origin: None,
            shared: None,
            named: None,
            library: syn::parse_quote!(::velvet_drawer),
            generic,
        };
        attributes::read(&input.attrs, "record", ON_STRUCT, problems, &mut record);
        record.fields = fields(named, "record", ON_FIELD, problems);
        if let (Some(at), Some(name)) = (record.named, record.fields.iter_mut().find(|f| f.ident == "name")) {
            name.own_key.get_or_insert(at);
        }
        Some(record)
    }

    /// The fields that are stored, in declared order.
    pub(crate) fn stored(&self) -> impl Iterator<Item = &Field> {
        self.fields.iter().filter(|f| f.skip.is_none())
    }
}

/// A struct with `#[derive(Excerpt)]`.
pub(crate) struct Excerpt {
    pub ident: Ident,
    pub fields: Vec<Field>,
    /// The record of which it is a part, where it is of one.
    pub of: Option<Path>,
    pub library: Path,
}

impl Excerpt {
    /// Reads the struct, or nothing when it has no named fields; what is wrong goes to `problems`.
    pub(crate) fn read(input: DeriveInput, problems: &mut Problems) -> Option<Excerpt> {
        let library = syn::parse_quote!(::velvet_drawer);
        let mut excerpt = Excerpt { ident: input.ident, fields: Vec::new(), of: None, library };
        attributes::read(&input.attrs, "excerpt", ON_EXCERPT, problems, &mut excerpt);
        if !input.generics.params.is_empty() {
            problems
                .at(&input.generics, "an excerpt owns what was read, so it has no lifetimes and no type parameters");
        }
        if let Data::Struct(DataStruct { fields: Fields::Named(named), .. }) = input.data
            && !named.named.is_empty()
        {
            excerpt.fields = fields(named.named, "excerpt", ON_PART, problems);
            return Some(excerpt);
        }
        problems
            .at(&excerpt.ident, "an excerpt is a struct with named fields, because columns are found by their names");
        None
    }
}

fn fields(
    named: impl IntoIterator<Item = syn::Field>,
    attribute: &str,
    words: &[Word<Field>],
    problems: &mut Problems,
) -> Vec<Field> {
    named.into_iter().filter_map(|field| Field::read(field, attribute, words, problems)).collect()
}

impl Field {
    fn read(field: syn::Field, attribute: &str, words: &[Word<Field>], problems: &mut Problems) -> Option<Field> {
        let ident = field.ident?;
        let mut model = Field {
            column: Name::of(&ident),
            ident,
            vis: field.vis,
            ty: field.ty,
            own_key: None,
            unique: None,
            indexed: None,
            json: None,
            searchable: None,
            private: None,
            ignore_case: None,
            sealed: None,
            fallback: None,
            skip: None,
            default: None,
            link: None,
            remove_unlinked: None,
            created: None,
            changed: None,
            origin: None,
            fill: None,
        };
        attributes::read(&field.attrs, attribute, words, problems, &mut model);
        Some(model)
    }

    /// The inner type, when the field's type is written as an `Option`.
    pub(crate) fn inside_option(&self) -> Option<&Type> {
        inside_option(&self.ty)
    }
}

pub(crate) fn inside_option(ty: &Type) -> Option<&Type> {
    let Type::Path(path) = ty else { return None };
    let last = path.path.segments.last().filter(|s| s.ident == "Option")?;
    let PathArguments::AngleBracketed(arguments) = &last.arguments else { return None };
    match arguments.args.first() {
        Some(GenericArgument::Type(inner)) if arguments.args.len() == 1 => Some(inner),
        _ => None,
    }
}

/// Takes `was = "…"`.
fn was(origin: &mut Option<(Span, WasOrNew)>, at: Span, meta: &ParseNestedMeta) -> syn::Result<()> {
    set_origin(origin, at, WasOrNew::Was(attributes::text(meta)?.value()))
}

/// Takes `was = "…"` or `new`, but not both.
fn set_origin(origin: &mut Option<(Span, WasOrNew)>, at: Span, said: WasOrNew) -> syn::Result<()> {
    if origin.replace((at, said)).is_some() {
        return Err(syn::Error::new(at, "it is either new, or was called otherwise before; keep one of the words"));
    }
    Ok(())
}

/// The fields in `unique(a, b)`.
fn idents(meta: &ParseNestedMeta) -> syn::Result<Vec<Ident>> {
    let mut idents = Vec::new();
    let here = meta.path.get_ident().map(Ident::to_string).unwrap_or_default();
    if !meta.input.peek(syn::token::Paren) {
        return Err(meta.error(format!("name the fields that go together: `{here}(first, second)`")));
    }
    meta.parse_nested_meta(|inner| {
        idents.push(inner.path.require_ident()?.clone());
        Ok(())
    })?;
    if idents.len() < 2 {
        return Err(meta.error(format!("for one field write `#[record({here})]` on the field itself")));
    }
    Ok(idents)
}

/// The weight in `searchable(weight = 4)`; 1 where none is given.
fn weight(meta: &ParseNestedMeta) -> syn::Result<f64> {
    let mut weight = 1.0;
    if meta.input.peek(syn::token::Paren) {
        meta.parse_nested_meta(|inner| {
            let advice = "write `searchable`, or `searchable(weight = 4)` for a column that counts four times as much";
            if !inner.path.is_ident("weight") {
                let error = inner.error(advice);
                // What is left of it would be a second error for the same mistake.
                inner.value()?.parse::<Expr>()?;
                return Err(error);
            }
            let given: syn::Lit = inner.value()?.parse()?;
            let number = match &given {
                syn::Lit::Int(n) => n.base10_parse::<f64>(),
                syn::Lit::Float(n) => n.base10_parse::<f64>(),
                other => Err(syn::Error::new_spanned(other, advice)),
            }?;
            if !(number > 0.0 && number.is_finite()) {
                return Err(syn::Error::new_spanned(given, "a weight is above 0"));
            }
            weight = number;
            Ok(())
        })?;
    }
    Ok(weight)
}

/// The rule in `link(on_delete = clear)`.
fn rule(meta: &ParseNestedMeta) -> syn::Result<Rule> {
    let mut rule = None;
    let advice = "write `link(on_delete = refuse)`, `link(on_delete = clear)` or `link(on_delete = remove)`";
    if meta.input.peek(syn::token::Paren) {
        meta.parse_nested_meta(|inner| {
            if !inner.path.is_ident("on_delete") {
                return Err(inner.error(advice));
            }
            let word: Ident = inner.value()?.parse()?;
            rule = Some(match word.to_string().as_str() {
                "refuse" => Rule::Refuse,
                "clear" => Rule::Clear,
                "remove" => Rule::Remove,
                other => {
                    let near = names::suggestion(other, ["refuse", "clear", "remove"]);
                    return Err(syn::Error::new(
                        word.span(),
                        format!("`{other}` is not a delete rule{near}\n{advice}"),
                    ));
                }
            });
            Ok(())
        })?;
    }
    rule.ok_or_else(|| meta.error(format!("a `Key` field is a link already; to give its rule, {advice}")))
}
