//! The code of a record, from a model without problems.

use crate::model::{Field, Record, Rule, WasOrNew};
use proc_macro2::{Span, TokenStream};
use quote::{format_ident, quote, quote_spanned};
use syn::Ident;
use syn::ext::IdentExt;
use syn::spanned::Spanned;

/// What is made of a record.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Form {
    /// All that `#[derive(Record)]` adds.
    Whole,
    /// For one with problems, which are told: what keeps uses of the type from being further errors, and makes the compiler check the
    /// types of its fields, so that all that is wrong is said together.
    StandIn,
}

/// What `#[derive(Record)]` adds.
pub(crate) fn record(record: &Record, form: Form) -> TokenStream {
    if form == Form::StandIn && record.generic {
        return TokenStream::new();
    }
    let stands_in = form == Form::StandIn;
    let checks = checks(record);
    let Record { ident, vis, library, .. } = record;
    let table = &record.table.text;
    let columns = format_ident!("{}Columns", ident.unraw());
    let stored: Vec<&Field> = record.stored().collect();
    let types: Vec<TokenStream> = stored.iter().map(|f| column_type(f)).collect();
    let idents: Vec<_> = stored.iter().map(|f| &f.ident).collect();
    let visibilities = stored.iter().map(|f| &f.vis);
    let names: Vec<&String> = stored.iter().map(|f| &f.column.text).collect();
    let positions = 0..stored.len();
    let (this, sink, source, value) = (local("self"), local("sink"), local("source"), local("value"));
    // Lines about a field stand at its type, so that what the compiler says of the type is said there.
    let store = positions.clone().zip(&types).zip(&stored).map(|((at, ty), f)| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> (&velvet::FieldOf::<#ty>::HERE).put(#sink, #at, &#this.#ident)?;)
    });
    let store_column = positions.clone().zip(&types).zip(&stored).map(|((at, ty), f)| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> #at => (&velvet::FieldOf::<#ty>::HERE).put(#sink, #at, &#this.#ident),)
    });
    let load = positions.zip(&types).zip(&stored).map(|((at, ty), f)| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> #ident: (&velvet::FieldOf::<#ty>::HERE).take(#source, #at)?,)
    });
    let fits =
        types.iter().zip(&stored).enumerate().map(
            |(at, (ty, f))| quote_spanned!(f.ty.span()=> #at => (&velvet::FieldOf::<#ty>::HERE).fits(#at, #value),),
        );
    let skipped = record.fields.iter().filter(|f| f.skip.is_some()).map(|f| {
        let (ident, ty) = (&f.ident, &f.ty);
        quote_spanned!(ty.span()=> #ident: <#ty as ::core::default::Default>::default(),)
    });
    let declared = stored.iter().zip(&types).enumerate().map(|(at, (f, ty))| column(record, at, f, ty));
    let indexes = indexes(record);
    let mut searched: Vec<(&String, f64)> =
        stored.iter().filter_map(|f| f.searchable.map(|(_, weight)| (&f.column.text, weight))).collect();
    searched.sort_by_key(|(name, _)| *name);
    let weights = searched.iter().map(|(name, weight)| quote!((#name, #weight)));
    let searchable = (!searched.is_empty()).then(|| {
        let names = searched.iter().map(|(name, _)| quote!(::std::string::String::from(#name)));
        quote!(.searchable([#(#names),*]))
    });
    let shared = record.shared.map(|_| quote!(.shared()));
    let searched = (!searched.is_empty()).then(|| {
        quote! {
            #[automatically_derived]
            impl velvet::Searchable for #ident {}
        }
    });
    let own_key_position = stored.iter().position(|f| f.own_key.is_some());
    let own_key_for_statements = own_key_position.map_or(quote!(None), |at| quote!(Some(#at)));
    let own_key_name = own_key_position.map_or(quote!(None), |at| {
        let name = names[at];
        quote!(Some(::std::string::String::from(#name)))
    });
    let is_shared = record
        .shared
        .filter(|_| own_key_position.is_some())
        .map(|_| quote!(#[automatically_derived] impl velvet::Shared for #ident {}));
    let named = named_value(record, &types, form);
    let keyed = own_key_position.map(|at| keyed(record, at, &types[at]));
    let hints = hints(record);
    let ignoring_case = stored.iter().map(|f| f.ignore_case.map(|_| quote!(.ignoring_case())));
    let ignores_case: Vec<usize> = (0..stored.len()).filter(|at| stored[*at].ignore_case.is_some()).collect();
    let ignores_case =
        (!ignores_case.is_empty()).then(|| quote!(const IGNORES_CASE: &'static [usize] = &[#(#ignores_case),*];));
    let seals: Vec<TokenStream> =
        stored.iter().enumerate().filter_map(|(at, f)| seal(record, f).map(|label| quote!((#at, #label)))).collect();
    let sealed = (!seals.is_empty()).then(|| quote!(const SEALED: &'static [(usize, &'static str)] = &[#(#seals),*];));
    let sealed_name = own_key_position.filter(|_| stored.len() == 2 && seals.len() == 1);
    let sealed_name = sealed_name.map(|at| quote!(const SEALED_NAME: Option<usize> = Some(#at);));
    let column_of = |(at, f): (usize, &&Field)| {
        let name = &f.column.text;
        match seal(record, f) {
            Some(label) => quote!(velvet::SealedColumn::named(#table, #name, #at, #label)),
            None => quote!(velvet::Column::named(#table, #name, #at)),
        }
    };
    let made = stored.iter().enumerate().map(column_of);
    let column_types = stored.iter().map(|f| {
        let ty = plain_type(f);
        if f.sealed.is_some() { quote!(velvet::SealedColumn<#ident, #ty>) } else { quote!(velvet::Column<#ident, #ty>) }
    });
    let stamps = stamps(record, form);
    let assertions = stored.iter().zip(&types).filter(|_| !stands_in).map(|(f, ty)| assertions(f, ty));
    let body = |whole: TokenStream| if stands_in { quote!(::core::unreachable!()) } else { whole };
    let table_body = body(quote! {
        Ok(velvet::Table::new(
            #table,
            ::std::vec![#(#declared),*],
            #own_key_name,
            ::std::vec![#(#indexes),*],
        )#searchable #shared)
    });
    let store = body(quote!(#(#store)* Ok(())));
    let store_column = body(quote!(match column { #(#store_column)* _ => Ok(()) }));
    let load = body(quote!(Ok(#ident { #(#load)* #(#skipped)* })));
    let fits = body(quote!(match column { #(#fits)* _ => Ok(()) }));
    let unused = stands_in.then(|| quote!(#[allow(unused_variables)]));

    quote! {
        const _: () = {
            use #library::__private as velvet;
            use ::core::option::Option::{None, Some};
            use ::core::result::Result::{self, Ok};

            #checks
            #(#assertions)*

            #[allow(dead_code)]
            #[derive(Clone, Copy)]
            #vis struct #columns {
                #(#visibilities #idents: #column_types,)*
            }

            #[allow(dead_code)]
            impl #columns {
                /// The column of the record's key.
                #vis fn key(self) -> velvet::Column<#ident, velvet::Key<#ident>> {
                    velvet::key_column()
                }

                /// The records of another type that link to this one, by the link that the closure names.
                #vis fn linked_from<D: velvet::Record>(
                    self,
                    link: impl velvet::LinkOf<D, #ident>,
                ) -> velvet::LinkedFrom<#ident, D> {
                    velvet::LinkedFrom::by(link)
                }
            }

            #unused
            #[automatically_derived]
            impl velvet::Record for #ident {
                const TABLE: &'static str = #table;
                const COLUMNS: &'static [&'static str] = &[#(#names),*];
                const HINTS: velvet::Hints = #hints;
                const SEARCHABLE: &'static [(&'static str, f64)] = &[#(#weights),*];
                type Columns = #columns;

                #ignores_case
                #sealed
                #sealed_name
                #stamps

                fn columns() -> #columns {
                    #columns { #(#idents: #made #ignoring_case,)* }
                }

                fn table() -> Result<velvet::Table, velvet::Misfit> {
                    #table_body
                }

                fn statements() -> &'static velvet::RecordStatements {
                    static STATEMENTS: ::std::sync::LazyLock<velvet::RecordStatements> = ::std::sync::LazyLock::new(|| {
                        velvet::RecordStatements::new(<#ident as velvet::Record>::LAYOUT, #own_key_for_statements)
                    });
                    &STATEMENTS
                }

                fn store<S: velvet::Sink>(&self, sink: &mut S) -> Result<(), velvet::Misfit> {
                    #store
                }

                fn store_column<S: velvet::Sink>(&self, column: usize, sink: &mut S) -> Result<(), velvet::Misfit> {
                    #store_column
                }

                fn load<S: velvet::Source>(source: &mut S) -> Result<Self, velvet::Misfit> {
                    #load
                }

                fn fits(column: usize, value: velvet::ValueRef<'_>) -> Result<(), velvet::Misfit> {
                    #fits
                }
            }

            #keyed
            #named
            #searched
            #is_shared
        };
    }
}

/// What makes the compiler check the type of each field, before it meets the type in code that the app's author did not write.
fn checks(record: &Record) -> TokenStream {
    are_columns(record.stored().map(|f| (f.ty.span(), column_type(f))))
}

/// What makes the compiler say at each place that the type there is no column.
pub(crate) fn are_columns(types: impl Iterator<Item = (Span, TokenStream)>) -> TokenStream {
    let types = types.map(|(at, ty)| quote_spanned!(at=> is_a_column::<#ty>();));
    quote! {
        #[allow(unused_imports)]
        use velvet::{Fit as _, Unfit as _};
        fn is_a_column<C: velvet::ColumnType>() {}
        const _: fn() = || {
            #(#types)*
        };
    }
}

/// A name in what the derive writes itself, also beside words of the app's: those may come from elsewhere than the derive, out of a macro.
pub(crate) fn local(name: &str) -> Ident {
    Ident::new(name, Span::call_site())
}

/// The label under which a field's values are sealed, where they are.
fn seal(record: &Record, field: &Field) -> Option<String> {
    let (_, label) = field.sealed.as_ref()?;
    Some(label.clone().unwrap_or_else(|| format!("{}.{}", record.table.text, field.column.text)))
}

/// The column type of a field.
pub(crate) fn column_type(field: &Field) -> TokenStream {
    let plain = plain_type(field);
    match field.sealed {
        None => plain,
        Some(_) => quote_spanned!(field.ty.span()=> velvet::Sealed<#plain>),
    }
}

/// The column type of a field, where it is not sealed: its own type, or that of JSON text.
pub(crate) fn plain_type(field: &Field) -> TokenStream {
    let ty = &field.ty;
    let stored = match (field.json, field.inside_option()) {
        (None, _) => quote!(#ty),
        (Some(_), None) => quote_spanned!(ty.span()=> velvet::Json<#ty>),
        (Some(_), Some(inner)) => quote_spanned!(ty.span()=> ::core::option::Option<velvet::Json<#inner>>),
    };
    match field.fallback {
        None => stored,
        Some(_) => quote_spanned!(ty.span()=> velvet::OrDefault<#stored>),
    }
}

fn column(record: &Record, at: usize, field: &Field, ty: &TokenStream) -> TokenStream {
    let name = &field.column.text;
    let default = match &field.default {
        None => quote!(None),
        Some((word, None)) => quote_spanned! {*word=>
            Some(velvet::stored_value::<#ty>(&<<#ty as velvet::ColumnType>::Value as ::core::default::Default>::default())
                .map_err(|misfit| misfit.at(#at))?)
        },
        Some((_, Some(value))) => quote_spanned! {value.span()=>
            Some(velvet::stored_arg::<#ty>(#value).map_err(|misfit| misfit.at(#at))?)
        },
    };
    let rule = match field.link {
        None => quote!(None),
        Some((_, Rule::Refuse)) => quote!(Some(velvet::OnDelete::Refuse)),
        Some((_, Rule::Clear)) => quote!(Some(velvet::OnDelete::Clear)),
        Some((_, Rule::Remove)) => quote!(Some(velvet::OnDelete::Remove)),
    };
    let private = field.private.map(|_| quote!(.private()));
    let ignore_case = field.ignore_case.map(|_| quote!(.ignore_case()));
    let sealed = seal(record, field).map(|label| quote!(.sealed_as(#label)));
    let unlinked = field.remove_unlinked.map(|_| quote!(.remove_unlinked()));
    quote_spanned!(field.ty.span()=> (&velvet::FieldOf::<#ty>::HERE).column(#name, #default, #rule)#private #ignore_case #unlinked #sealed)
}

/// Where the table and its columns come from.
fn hints(record: &Record) -> TokenStream {
    let origin = |origin: Option<&WasOrNew>| match origin {
        None => quote!(None),
        Some(WasOrNew::New) => quote!(Some(velvet::Origin::New)),
        Some(WasOrNew::Was(name)) => quote!(Some(velvet::Origin::Was(#name))),
    };
    let table = origin(record.origin.as_ref().map(|(_, origin)| origin));
    let columns = record.stored().filter(|f| f.origin.is_some() || f.fill.is_some()).map(|f| {
        let column = &f.column.text;
        let origin = origin(f.origin.as_ref().map(|(_, origin)| origin));
        let fill = f.fill.as_ref().map_or(quote!(None), |(_, fill)| quote!(Some(#fill)));
        quote!(velvet::Hint { column: #column, origin: #origin, fill: #fill })
    });
    quote!(velvet::Hints { table: #table, columns: &[#(#columns),*] })
}

fn indexes(record: &Record) -> Vec<TokenStream> {
    let index = |columns: Vec<&String>, unique: bool| quote!(velvet::Index { columns: ::std::vec![#(::std::string::String::from(#columns)),*], unique: #unique });
    let of_field = |f: &Field| match (f.own_key.or(f.unique), f.indexed) {
        (Some(_), _) => Some(true),
        (None, Some(_)) => Some(false),
        (None, None) => None,
    };
    let single = record.stored().filter_map(|f| of_field(f).map(|unique| index(vec![&f.column.text], unique)));
    let grouped = record.groups.iter().map(|(group, unique)| {
        let columns = group.iter().filter_map(|i| record.stored().find(|f| f.ident == *i)).map(|f| &f.column.text);
        index(columns.collect(), *unique)
    });
    single.chain(grouped).collect()
}

fn keyed(record: &Record, position: usize, ty: &TokenStream) -> Option<TokenStream> {
    let ident = &record.ident;
    let field = &record.stored().nth(position)?.ident;
    Some(quote! {
        #[automatically_derived]
        impl velvet::Keyed for #ident {
            type OwnKey = #ty;
            const OWN_KEY_POSITION: usize = #position;

            fn own_key(&self) -> &<#ty as velvet::ColumnType>::Value {
                &self.#field
            }
        }
    })
}

/// What fills the columns that hold the moment of a write.
fn stamps(record: &Record, form: Form) -> Option<TokenStream> {
    let stamped: Vec<(usize, &Field)> =
        record.stored().enumerate().filter(|(_, f)| f.created.is_some() || f.changed.is_some()).collect();
    if stamped.is_empty() || form == Form::StandIn {
        return None;
    }
    let columns = stamped.iter().map(|(at, f)| {
        let when = if f.created.is_some() { quote!(Created) } else { quote!(Changed) };
        quote!(velvet::StampedColumn { at: #at, when: velvet::When::#when })
    });
    let (this, now) = (local("self"), local("now"));
    let filled = |f: &Field| {
        let (ident, ty) = (&f.ident, &f.ty);
        quote_spanned!(ty.span()=> #this.#ident = <#ty as velvet::Stamp>::at(#now);)
    };
    let changed: Vec<_> = stamped.iter().filter(|(_, f)| f.changed.is_some()).map(|(_, f)| filled(f)).collect();
    let created: Vec<&Field> = stamped.iter().filter(|(_, f)| f.created.is_some()).map(|(_, f)| *f).collect();
    let first = created.iter().map(|f| filled(f));
    let kept = created.iter().map(|f| {
        let ident = &f.ident;
        quote!(self.#ident = ::core::clone::Clone::clone(&other.#ident);)
    });
    Some(quote! {
        const STAMPED: &'static [velvet::StampedColumn] = &[#(#columns),*];

        fn stamp(&mut self, #now: velvet::Timestamp, when: velvet::When) {
            #(#changed)*
            if when == velvet::When::Created {
                #(#first)*
            }
        }

        #[allow(unused_variables, clippy::clone_on_copy)]
        fn keep_created(&mut self, other: &Self) {
            #(#kept)*
        }
    })
}

/// What a record that is a name and a value can do.
fn named_value(record: &Record, types: &[TokenStream], form: Form) -> Option<TokenStream> {
    record.named?;
    let at = |name: &str| record.stored().position(|f| f.ident == name);
    let (name_at, at) = (at("name")?, at("value")?);
    let (ident, ty) = (&record.ident, &types[at]);
    let (source, value) = (local("source"), local("value"));
    let field = record.stored().nth(at)?;
    let (field_name, place) = (&field.ident, field.ty.span());
    let name_field = &record.stored().nth(name_at)?.ident;
    let take = quote_spanned!(place=> (&velvet::FieldOf::<#ty>::HERE).take(#source, 0));
    let take = if form == Form::StandIn { quote!(::core::unreachable!()) } else { take };
    let made = quote!(#ident { #name_field: name, #field_name: #value });
    let made = if form == Form::StandIn { quote!(::core::unreachable!()) } else { made };
    let unused = (form == Form::StandIn).then(|| quote!(#[allow(unused_variables)]));
    Some(quote! {
        #unused
        #[automatically_derived]
        impl velvet::NamedValue for #ident {
            type Value = #ty;
            const VALUE_POSITION: usize = #at;

            fn named(
                name: <<#ident as velvet::Keyed>::OwnKey as velvet::ColumnType>::Value,
                #value: <#ty as velvet::ColumnType>::Value,
            ) -> Self {
                #made
            }

            fn into_value(self) -> <#ty as velvet::ColumnType>::Value {
                self.#field_name
            }

            fn value_mut(&mut self) -> &mut <#ty as velvet::ColumnType>::Value {
                &mut self.#field_name
            }

            fn take_value<S: velvet::Source>(
                source: &mut S,
            ) -> Result<<#ty as velvet::ColumnType>::Value, velvet::Misfit> {
                #take
            }

            fn named_statements() -> &'static velvet::NamedStatements {
                static STATEMENTS: ::std::sync::LazyLock<velvet::NamedStatements> = ::std::sync::LazyLock::new(|| {
                    velvet::NamedStatements::of::<#ident>()
                });
                &STATEMENTS
            }
        }
    })
}

/// What only the compiler can see, because it takes knowing the type: reported at the word that it is about.
fn assertions(field: &Field, ty: &TokenStream) -> TokenStream {
    let mut out = TokenStream::new();
    let mut assert = |at: proc_macro2::Span, condition: TokenStream, message: &str| {
        out.extend(quote_spanned!(at=> const _: () = ::core::assert!(#condition, #message);));
    };
    if let Some((at, rule)) = field.link {
        assert(
            at,
            quote!(matches!(<#ty as velvet::ColumnType>::SHAPE, velvet::Shape::Link)),
            "`link` is for a field that holds the key of another record: `Key<Glaze>` or `Option<Key<Glaze>>`",
        );
        if rule == Rule::Clear {
            assert(
                at,
                quote!(<#ty as velvet::ColumnType>::OPTIONAL),
                "a link that is cleared becomes nothing: make the field an Option, or choose `refuse` or `remove`",
            );
        }
    }
    if let Some(at) = field.remove_unlinked {
        assert(
            at,
            quote!(matches!(<#ty as velvet::ColumnType>::SHAPE, velvet::Shape::Link)),
            "`remove_unlinked` is for a field that holds the key of another record: `Key<Attachment>` or `Option<Key<Attachment>>`",
        );
    }
    if let Some(at) = field.own_key {
        assert(
            at,
            quote!(!<#ty as velvet::ColumnType>::OPTIONAL),
            "an own key cannot be missing: make the field's type one that is always there",
        );
    }
    if let Some(at) = field.ignore_case.or(field.searchable.map(|(at, _)| at)) {
        out.extend(quote_spanned!(at=> const _: fn() = || {
            fn is_text<C: velvet::Textual>() {}
            is_text::<#ty>();
        };));
    }
    out
}
