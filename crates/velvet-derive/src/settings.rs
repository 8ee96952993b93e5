//! `#[derive(Settings)]`: a typed document, of which each field is stored as a named value.

use crate::attributes;
use crate::names::{self, objection};
use crate::problems::Problems;
use proc_macro2::{Span, TokenStream};
use quote::{quote, quote_spanned};
use syn::meta::ParseNestedMeta;
use syn::spanned::Spanned;
use syn::{Data, DataStruct, DeriveInput, Expr, ExprLit, Fields, Ident, Lit, LitStr, Path, Type};

/// What is said of the settings as a whole.
struct Words {
    origin: Option<LitStr>,
    private: bool,
    shared: bool,
    /// Whether they are sealed, and the label where one is given.
    sealed: Option<Option<LitStr>>,
}

struct Field {
    ident: Ident,
    ty: Type,
    name: String,
    at: Span,
    was: Option<String>,
    default: Option<Expr>,
    sealed: Option<SealedField>,
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
    let mut library: Path = syn::parse_quote!(::velvet_drawer);
    let (mut private, mut shared, mut sealed) = (false, false, None);
    let (mut table, mut at) = (names::stored(&input.ident), input.ident.span());
    let mut origin = None;
    attributes::each(
        &input.attrs,
        "settings",
        &["name", "was", "private", "shared", "sealed", "library"],
        &mut problems,
        |word, meta| {
            match word {
                "name" => {
                    let name = attributes::text(meta)?;
                    (table, at) = (name.value(), name.span());
                }
                "was" => origin = Some(attributes::text(meta)?),
                "private" => private = true,
                "shared" => shared = true,
                "sealed" => sealed = Some((meta.path.span(), label(meta)?)),
                _ => library = attributes::text(meta)?.parse()?,
            }
            Ok(())
        },
    );
    if let Some(objection) = objection(&table) {
        problems.here(at, format!("{objection}; name the table with #[settings(name = \"…\")]"));
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
    let first =
        sealed.as_ref().map(|(at, _)| *at).or_else(|| sealed_fields().find(|field| !field.was).map(|field| field.at));
    if let (Some(at), true) = (first, private || shared) {
        let message = "what is sealed is read only with the key of this device, so it is neither shared nor left out of copies; remove the other word";
        problems.here(at, message);
    }
    if let (Some(_), Some(field)) = (&sealed, sealed_fields().find(|field| !field.was)) {
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
    let words = Words { origin, private, shared, sealed: sealed.map(|(_, label)| label) };
    Ok(generate(&input.ident, &table, &words, &fields, &library))
}

fn field(field: syn::Field, problems: &mut Problems) -> Option<Field> {
    let ident = field.ident?;
    let (name, at) = (names::stored(&ident), ident.span());
    let mut model = Field { name, at, ident, ty: field.ty, was: None, default: None, sealed: None };
    let known = ["name", "was", "default", "sealed", "was_sealed", "was_clear"];
    let mut was_clear = None;
    attributes::each(&field.attrs, "settings", &known, problems, |word, meta| {
        match word {
            "name" => {
                let name = attributes::text(meta)?;
                (model.name, model.at) = (name.value(), name.span());
            }
            "was" => model.was = Some(attributes::text(meta)?.value()),
            "sealed" | "was_sealed" => {
                if model.sealed.is_some() {
                    return Err(meta.error("a field is sealed or was, not both; remove one of the words"));
                }
                let (at, was) = (meta.path.span(), word == "was_sealed");
                model.sealed = Some(SealedField { at, was, was_clear: false, label: label(meta)? });
            }
            "was_clear" => was_clear = Some(meta.path.span()),
            _ => model.default = Some(meta.value()?.parse()?),
        }
        Ok(())
    });
    match (&mut model.sealed, was_clear) {
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

fn generate(
    ident: &Ident,
    table: &str,
    Words { origin, private, shared, sealed }: &Words,
    fields: &[Field],
    library: &Path,
) -> TokenStream {
    let inner = LitStr::new(&quote!(#library).to_string(), Span::call_site());
    let was = origin.as_ref().map(|was| quote!(, was = #was));
    let value_words = match sealed {
        Some(label) => {
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
