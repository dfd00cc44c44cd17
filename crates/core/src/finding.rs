//! What is found wrong, by a code with words in each language: a table of codes ([`catalogue`]) says the words, a [`Found`] fills in
//! what was seen. The survey of a site and the look at a host have a table each.

use crate::step::Lang;

/// How bad it is, the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Harm {
    /// Somebody may come in who should not, be taken for another, or do what they may not.
    Danger,
    /// Somebody who should come in does not, or arrives without what the application needs.
    Broken,
    /// It works, and will not for long, or not when one more thing fails.
    Soon,
    /// Nothing fails: it is of no use, or misleads whoever reads it.
    Untidy,
}

impl Harm {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Harm::Danger => "danger",
            Harm::Broken => "broken",
            Harm::Soon => "soon",
            Harm::Untidy => "untidy",
        }
    }
}

/// What the catalogue says of one code.
#[derive(Debug)]
pub struct Spec {
    pub code: &'static str,
    pub harm: Harm,
    pub params: &'static [&'static str],
    /// Templates in each language: see the methods.
    pub(crate) what: [&'static str; 2],
    pub(crate) seen: [&'static str; 2],
    pub(crate) remedy: [&'static str; 2],
}

impl Spec {
    /// Template of what is wrong.
    pub fn what(&self, lang: Lang) -> &'static str {
        self.what[lang as usize]
    }
    /// Template of how it was seen.
    pub fn seen(&self, lang: Lang) -> &'static str {
        self.seen[lang as usize]
    }
    /// Template of what to do.
    pub fn remedy(&self, lang: Lang) -> &'static str {
        self.remedy[lang as usize]
    }
}

/// A code of some table.
pub trait Coded: Copy {
    /// What its table says of it.
    fn spec(self) -> &'static Spec;
}

macro_rules! catalogue {
    ($($variant:ident = $code:literal $harm:ident [$($p:literal),*]
        $what:literal / $what_fr:literal, $seen:literal / $seen_fr:literal, $remedy:literal / $remedy_fr:literal;)*) => {
        /// The code of a finding.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum Code {
            $(#[doc = $what] $variant,)*
        }
        /// Every code, in the order of the table.
        pub const ALL: &[Code] = &[$(Code::$variant),*];
        impl Code {
            /// What the catalogue says of it.
            pub fn spec(self) -> &'static $crate::finding::Spec {
                match self {
                    $(Code::$variant => {
                        const SPEC: $crate::finding::Spec = $crate::finding::Spec {
                            code: $code, harm: $crate::finding::Harm::$harm, params: &[$($p),*],
                            what: [$what, $what_fr], seen: [$seen, $seen_fr], remedy: [$remedy, $remedy_fr],
                        };
                        &SPEC
                    })*
                }
            }
        }
        impl $crate::finding::Coded for Code {
            fn spec(self) -> &'static $crate::finding::Spec {
                Code::spec(self)
            }
        }
    };
}
pub(crate) use catalogue;

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found<C> {
    pub code: C,
    /// What it is about, such as `gate berths`.
    pub place: String,
    params: Vec<(&'static str, Word)>,
}

/// A parameter: a value as it is, or words in each language.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Word {
    Text(String),
    Say([String; 2]),
}

impl From<&str> for Word {
    fn from(s: &str) -> Word {
        Word::Text(s.to_owned())
    }
}
impl From<String> for Word {
    fn from(s: String) -> Word {
        Word::Text(s)
    }
}
impl From<i64> for Word {
    fn from(n: i64) -> Word {
        Word::Text(n.to_string())
    }
}

impl<C: Coded> Found<C> {
    pub(crate) fn new(code: C, place: impl Into<String>) -> Found<C> {
        Found { code, place: place.into(), params: vec![] }
    }

    pub(crate) fn with(mut self, name: &'static str, value: impl Into<Word>) -> Found<C> {
        self.params.push((name, value.into()));
        self
    }

    /// What is wrong, in a sentence.
    pub fn what(&self, lang: Lang) -> String {
        self.fill(self.code.spec().what(lang), lang)
    }

    /// How it was seen.
    pub fn seen(&self, lang: Lang) -> String {
        self.fill(self.code.spec().seen(lang), lang)
    }

    /// What to do.
    pub fn remedy(&self, lang: Lang) -> String {
        self.fill(self.code.spec().remedy(lang), lang)
    }

    /// One pass: what a value holds is never taken for a name.
    fn fill(&self, template: &str, lang: Lang) -> String {
        let mut out = String::new();
        let mut rest = template;
        while let Some((before, after)) = rest.split_once('{') {
            out.push_str(before);
            let (name, after) = after.split_once('}').unwrap_or((after, ""));
            match self.params.iter().find(|(n, _)| *n == name) {
                Some((_, Word::Text(text))) => out.push_str(text),
                Some((_, Word::Say(words))) => out.push_str(&words[lang as usize]),
                None => out.push('—'),
            }
            rest = after;
        }
        out + rest
    }
}

/// What must hold of every table: codes are unique, templates name their parameters alone, in both languages, and each is shown.
#[cfg(test)]
pub(crate) fn holds<C: Coded>(all: &[C]) {
    fn named(template: &str) -> Vec<&str> {
        let mut out: Vec<_> = template.split('{').skip(1).filter_map(|p| p.split_once('}')).map(|(n, _)| n).collect();
        out.sort_unstable();
        out.dedup();
        out
    }
    let mut codes: Vec<_> = all.iter().map(|c| c.spec().code).collect();
    codes.sort_unstable();
    codes.dedup();
    assert_eq!(codes.len(), all.len());
    for code in all {
        let s = code.spec();
        for pair in [s.what, s.seen, s.remedy] {
            assert!(pair.iter().all(|t| named(t).iter().all(|n| s.params.contains(n))), "{}: {pair:?}", s.code);
            assert_ne!(pair[0], pair[1], "{}", s.code);
        }
        assert_eq!(named(s.what[0]), named(s.what[1]), "{}", s.code);
        let all: Vec<_> = [s.what[0], s.seen[0], s.remedy[0]].iter().flat_map(|t| named(t)).collect();
        assert!(s.params.iter().all(|p| all.contains(p)), "{}: a parameter that is never shown", s.code);
    }
}
