//! `#[derive(Settings)]`: a typed document, of which each field is stored as a named value.

use crate::attributes::{self, Word};
use crate::names::{self, objection};
use crate::problems::Problems;
use proc_macro2::{Span, TokenStream};
use quote::{quote, quote_spanned};
use syn::meta::ParseNestedMeta;
use syn::spanned::Spanned;
use syn::{Data, DataStruct, DeriveInput, Expr, ExprLit, Fields, Ident, Lit, LitStr, Path, Type};

/// What is said of the settings as a whole.
struct Words {
    /// The name of their table, and where it was given.
    table: (String, Span),
    origin: Option<LitStr>,
    private: bool,
    shared: bool,
    /// Whether they are sealed, and the label where one is given.
    sealed: Option<(Span, Option<LitStr>)>,
    library: Path,
}

const ON_STRUCT: &[Word<Words>] = &[
    ("name", |words, _, meta| attributes::text(meta).map(|name| words.table = (name.value(), name.span()))),
    ("was", |words, _, meta| attributes::text(meta).map(|was| words.origin = Some(was))),
    ("private", |words, _, _| {
        words.private = true;
        Ok(())
    }),
    ("shared", |words, _, _| {
        words.shared = true;
        Ok(())
    }),
    ("sealed", |words, at, meta| label(meta).map(|label| words.sealed = Some((at, label)))),
    ("library", |words, _, meta| attributes::library(meta).map(|path| words.library = path)),
];

struct Field {
    ident: Ident,
    ty: Type,
    name: String,
    at: Span,
    was: Option<String>,
    default: Option<Expr>,
    sealed: Option<SealedField>,
    /// Where it says that an earlier release stored it in the clear.
    was_clear: Option<Span>,
}

const ON_FIELD: &[Word<Field>] = &[
    ("name", |field, _, meta| attributes::text(meta).map(|name| (field.name, field.at) = (name.value(), name.span()))),
    ("was", |field, _, meta| attributes::text(meta).map(|was| field.was = Some(was.value()))),
    ("default", |field, _, meta| meta.value()?.parse().map(|default| field.default = Some(default))),
    ("sealed", |field, at, meta| seal(field, SealedField { at, was: false, was_clear: false, label: None }, meta)),
    ("was_sealed", |field, at, meta| seal(field, SealedField { at, was: true, was_clear: false, label: None }, meta)),
    ("was_clear", |field, at, _| {
        field.was_clear = Some(at);
        Ok(())
    }),
];

/// Notes that a field is sealed, or was, but not both.
fn seal(field: &mut Field, sealed: SealedField, meta: &ParseNestedMeta) -> syn::Result<()> {
    if field.sealed.is_some() {
        return Err(meta.error("a field is sealed or was, not both; remove one of the words"));
    }
    field.sealed = Some(SealedField { label: label(meta)?, ..sealed });
    Ok(())
}

/// That a field is sealed, or was.
struct SealedField {
    at: Span,
    /// Whether it is no longer.
    was: bool,
    /// Whether it was in the clear before.
    was_clear: bool,
    label: Option<LitStr>,
}

/// All that the derive adds.
pub(crate) fn code(input: DeriveInput) -> syn::Result<TokenStream> {
    let mut problems = Problems::default();
    let mut words = Words {
        table: (names::stored(&input.ident), input.ident.span()),
        origin: None,
        private: false,
        shared: false,
        sealed: None,
        library: syn::parse_quote!(::velvet_drawer),
    };
    attributes::read(&input.attrs, "settings", ON_STRUCT, &mut problems, &mut words);
    if let Some(objection) = objection(&words.table.0) {
        problems.here(words.table.1, format!("{objection}; name the table with #[settings(name = \"…\")]"));
    }
    if !input.generics.params.is_empty() {
        problems.at(&input.generics, "settings own their data, so they have no lifetimes and no type parameters");
    }
    let fields = match input.data {
        Data::Struct(DataStruct { fields: Fields::Named(named), .. }) if !named.named.is_empty() => {
            named.named.into_iter().filter_map(|f| field(f, &mut problems)).collect()
        }
        _ => {
            problems.at(&input.ident, "settings are a struct with named fields, because each is stored under its name");
            Vec::new()
        }
    };
    check(&fields, &mut problems);
    let sealed_fields = || fields.iter().filter_map(|field| field.sealed.as_ref());
    let first = words
        .sealed
        .as_ref()
        .map(|(at, _)| *at)
        .or_else(|| sealed_fields().find(|field| !field.was).map(|field| field.at));
    if let (Some(at), true) = (first, words.private || words.shared) {
        let message = "what is sealed is read only with the key of this device, so it is neither shared nor left out of copies; remove the other word";
        problems.here(at, message);
    }
    if let (Some(_), Some(field)) = (&words.sealed, sealed_fields().find(|field| !field.was)) {
        problems.here(
            field.at,
            "all fields of these settings are sealed; remove `sealed` from the field, or from the struct",
        );
    }
    let labels = || sealed_fields().filter_map(|field| field.label.as_ref());
    if let Some(other) = labels().find(|label| labels().next().is_some_and(|first| first.value() != label.value())) {
        problems.at(
            other,
            "fields are sealed under one label, and another field has another; give the one that was recorded first",
        );
    }
    problems.into_result()?;
    Ok(generate(&input.ident, &words, &fields))
}

fn field(field: syn::Field, problems: &mut Problems) -> Option<Field> {
    let ident = field.ident?;
    let (name, at) = (names::stored(&ident), ident.span());
    let mut model = Field { name, at, ident, ty: field.ty, was: None, default: None, sealed: None, was_clear: None };
    attributes::read(&field.attrs, "settings", ON_FIELD, problems, &mut model);
    match (&mut model.sealed, model.was_clear) {
        (Some(sealed), Some(_)) if !sealed.was => sealed.was_clear = true,
        (_, Some(at)) => problems.here(
            at,
            "`was_clear` belongs to a sealed field, of which an earlier release stored the value unsealed; add `sealed`, or remove it",
        ),
        (_, None) => {}
    }
    Some(model)
}

/// The label that is given with a word, where one is.
fn label(meta: &ParseNestedMeta) -> syn::Result<Option<LitStr>> {
    meta.input.peek(syn::Token![=]).then(|| attributes::text(meta)).transpose()
}

fn check(fields: &[Field], problems: &mut Problems) {
    for (position, field) in fields.iter().enumerate() {
        if field.name.is_empty() || field.name.contains('/') {
            problems.here(
                field.at,
                "a setting has a name without `/`, which stands between it and the account that it belongs to",
            );
        }
        let is_same = |other: &&Field| other.name == field.name;
        if let Some(other) = fields[..position].iter().find(is_same) {
            let message = format!(
                "`{}` is already the name of the setting `{}`; name one of them otherwise",
                field.name, other.ident
            );
            problems.here(field.at, message);
        }
        if let Some(was) = &field.was
            && let Some(other) = fields.iter().find(|other| other.name == *was)
        {
            let message = format!(
                "`{was}` is the name of the setting `{}`, so it cannot be what this one was called",
                other.ident
            );
            problems.here(field.at, message);
        }
    }
}

/// What stands in for settings with problems.
pub(crate) fn standing_in(ident: &Ident) -> TokenStream {
    quote! {
        #[derive(velvet::DeriveRecord)]
        #[record(named)]
        pub struct Setting {
            pub name: ::std::string::String,
            pub value: velvet::JsonValue,
        }

        #[automatically_derived]
        impl velvet::Settings for #ident {
            type Setting = Setting;
            type SealedSetting = Setting;
            const FIELDS: &'static [velvet::SettingField] = &[];
            fn defaults() -> Self { ::core::unreachable!() }
            fn load(
                stored: &[::core::option::Option<velvet::Value>],
                unreadable: &mut dyn FnMut(usize, velvet::Misfit),
            ) -> Self { ::core::unreachable!() }
            fn store(&self) -> ::core::result::Result<::std::vec::Vec<velvet::Value>, velvet::Misfit> {
                ::core::unreachable!()
            }
        }
    }
}

fn generate(ident: &Ident, words: &Words, fields: &[Field]) -> TokenStream {
    let Words { table: (table, _), origin, private, shared, sealed, library } = words;
    let inner = LitStr::new(&quote!(#library).to_string(), Span::call_site());
    let was = origin.as_ref().map(|was| quote!(, was = #was));
    let value_words = match sealed {
        Some((_, label)) => {
            let label = label.as_ref().map(|label| quote!(= #label));
            quote!(sealed #label)
        }
        None => {
            let private = private.then(|| quote!(private,));
            quote!(#private default)
        }
    };
    let shared = shared.then(|| quote!(, shared));
    let described = fields.iter().map(|f| {
        let (name, was) = (&f.name, f.was.as_ref().map_or(quote!(None), |was| quote!(Some(#was))));
        let place = match &f.sealed {
            None => quote!(WithTheOthers),
            Some(SealedField { was: false, .. }) => quote!(Sealed),
            Some(SealedField { was: true, .. }) => quote!(WithTheOthersAgain),
        };
        let was_clear = f.sealed.as_ref().is_some_and(|sealed| sealed.was_clear);
        quote!(velvet::SettingField { name: #name, was: #was, place: velvet::SettingPlace::#place, was_clear: #was_clear })
    });
    let mut seals = fields.iter().filter_map(|f| f.sealed.as_ref()).peekable();
    let has_sealed = seals.peek().is_some();
    let label = seals.find_map(|sealed| sealed.label.as_ref()).map(|label| quote!(= #label));
    let sealed_type = if has_sealed { quote!(SealedSetting) } else { quote!(Setting) };
    let sealed_setting = has_sealed.then(|| {
        let table = format!("{table}_sealed");
        let was = origin.as_ref().map(|was| format!("{}_sealed", was.value())).map(|was| quote!(, was = #was));
        quote! {
            #[derive(velvet::DeriveRecord)]
            #[record(named, name = #table, library = #inner #was)]
            pub struct SealedSetting {
                #[record(name = "setting")]
                pub name: ::std::string::String,
                #[record(sealed #label)]
                pub value: velvet::JsonValue,
            }
        }
    });
    let default = |f: &Field| match &f.default {
        Some(text @ Expr::Lit(ExprLit { lit: Lit::Str(_), .. })) => {
            quote_spanned!(text.span()=> ::core::convert::Into::into(#text))
        }
        Some(value) => quote!(#value),
        None => quote_spanned!(f.ty.span()=> ::core::default::Default::default()),
    };
    let defaults = fields.iter().map(|f| {
        let (ident, default) = (&f.ident, default(f));
        quote!(#ident: #default)
    });
    let load = fields.iter().enumerate().map(|(at, f)| {
        let (ident, ty, default) = (&f.ident, &f.ty, default(f));
        // Written here, not at the type, so that nobody is told how to write it better.
        let default = quote!(|| #default);
        quote_spanned!(ty.span()=> #ident: velvet::load_setting::<#ty>(#at, stored, #default, unreadable))
    });
    let store = fields.iter().enumerate().map(|(at, f)| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> velvet::store_setting(#at, &self.#ident)?)
    });
    quote! {
        const _: () = {
            use #library::__private as velvet;
            use ::core::option::Option::{self, None, Some};

            #[derive(velvet::DeriveRecord)]
            #[record(named, name = #table, library = #inner #was #shared)]
            pub struct Setting {
                #[record(name = "setting")]
                pub name: ::std::string::String,
                #[record(#value_words)]
                pub value: velvet::JsonValue,
            }

            #sealed_setting

            #[automatically_derived]
            impl velvet::Settings for #ident {
                type Setting = Setting;
                type SealedSetting = #sealed_type;
                const FIELDS: &'static [velvet::SettingField] = &[#(#described),*];

                fn defaults() -> Self {
                    #ident { #(#defaults),* }
                }

                fn load(stored: &[Option<velvet::Value>], unreadable: &mut dyn FnMut(usize, velvet::Misfit)) -> Self {
                    #ident { #(#load),* }
                }

                fn store(&self) -> ::core::result::Result<::std::vec::Vec<velvet::Value>, velvet::Misfit> {
                    ::core::result::Result::Ok(::std::vec![#(#store),*])
                }
            }
        };
    }
}
