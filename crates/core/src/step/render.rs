//! From steps to sentences. A template names its parameters in braces; `{name}` is replaced once, values are never
//! read as templates themselves.

use super::{Lang, Param, Step, reason_text, remedies};

/// The sentence of a step.
pub fn sentence(step: &Step, lang: Lang) -> String {
    fill(step.code.spec().words(lang), step, lang)
}

/// What to do about a step that stopped a crossing, where the catalogue knows.
pub fn remedy(step: &Step, lang: Lang) -> Option<String> {
    remedies::by_reason(step, lang).or_else(|| step.code.spec().remedy(lang)).map(|template| fill(template, step, lang))
}

/// A parameter as text. Text from outside is made safe by whoever shows it.
pub fn param_text(param: &Param, lang: Lang) -> String {
    match param {
        Param::Number(n) => n.to_string(),
        Param::Text(t) if t.is_empty() => "—".to_owned(),
        Param::Text(t) => t.clone(),
        Param::List(l) if l.is_empty() => "—".to_owned(),
        Param::List(l) => l.join(", "),
        Param::Phrases { phrases } if phrases.is_empty() => "—".to_owned(),
        Param::Phrases { phrases } => phrases.iter().map(|p| p.words(lang)).collect::<Vec<_>>().join("; "),
        Param::Reason { code, detail } => {
            let words = reason_text(code, lang).unwrap_or(code);
            if detail.is_empty() {
                return words.to_owned();
            }
            // Details may be reasons themselves, such as a failed look-up's state.
            format!("{words} ({})", reason_text(detail, lang).unwrap_or(detail))
        }
    }
}

fn fill(template: &str, step: &Step, lang: Lang) -> String {
    let mut out = String::with_capacity(template.len() + 32);
    let mut rest = template;
    while let Some((before, after)) = rest.split_once('{') {
        out.push_str(before);
        let Some((name, tail)) = after.split_once('}') else { break };
        match step.params.get(name) {
            Some(p) => out.push_str(&param_text(p, lang)),
            None => out.push('—'),
        }
        rest = tail;
    }
    out.push_str(rest);
    out
}
