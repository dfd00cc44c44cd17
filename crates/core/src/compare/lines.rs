//! The plain difference of two documents, line by line.

use std::fmt::Write;

use similar::TextDiff;

/// How much two different parts may be compared line by line: the product of their lines. Beyond this the best difference
/// would take seconds, and the parts are shown one after the other.
const COMPARED_MAX: usize = 4_000_000;

/// Lines shown around a change.
const AROUND: usize = 3;

/// The plain difference of two documents, three lines of context around each change; empty when they are equal. Takes time
/// in proportion to their size, whatever they hold.
pub fn difference(before: &str, after: &str) -> String {
    if before == after {
        return String::new();
    }
    let (old, new): (Vec<&str>, Vec<&str>) = (before.split_inclusive('\n').collect(), after.split_inclusive('\n').collect());
    let same = |a: &mut dyn Iterator<Item = (&&str, &&str)>| a.take_while(|(x, y)| x == y).count();
    let begin = same(&mut old.iter().zip(&new));
    let end = same(&mut old[begin..].iter().rev().zip(new[begin..].iter().rev()));
    let (from, ends) = (begin.saturating_sub(AROUND), end.saturating_sub(AROUND));
    let (old_part, new_part) = (&old[begin..old.len() - end], &new[begin..new.len() - end]);
    if old_part.len().saturating_mul(new_part.len()) <= COMPARED_MAX {
        // Lines that both begin and end with need no comparing; those around the change are shown.
        let (a, b) = (old[from..old.len() - ends].concat(), new[from..new.len() - ends].concat());
        let diff = TextDiff::from_lines(&a, &b);
        return moved(&diff.unified_diff().context_radius(AROUND).missing_newline_hint(false).to_string(), from);
    }
    let mut out = String::from(HEAD);
    let (above, below) = (&old[from..begin], &old[old.len() - end..old.len() - ends]);
    let around = above.len() + below.len();
    let _ = writeln!(out, "@@ -{},{} +{},{} @@", from + 1, old_part.len() + around, from + 1, new_part.len() + around);
    for (sign, lines) in [(' ', above), ('-', old_part), ('+', new_part), (' ', below)] {
        for line in lines {
            let _ = writeln!(out, "{sign}{}", line.trim_end_matches('\n'));
        }
    }
    out
}

const HEAD: &str = "--- before\n+++ after\n";

/// A difference whose lines are counted from further down.
fn moved(difference: &str, by: usize) -> String {
    let mut out = String::from(HEAD);
    for line in difference.split_inclusive('\n') {
        match moved_head(line, by) {
            Some(head) => out.push_str(&head),
            None => out.push_str(line),
        }
    }
    out
}

/// `@@ -a,b +c,d @@`, each place counted from further down.
fn moved_head(line: &str, by: usize) -> Option<String> {
    let (old, new) = line.strip_prefix("@@ -")?.trim_end().strip_suffix(" @@")?.split_once(" +")?;
    let place = |text: &str| {
        let (first, count) = text.split_once(',').unwrap_or((text, "1"));
        Some((first.parse::<usize>().ok()? + by, count.to_owned()))
    };
    let ((a, b), (c, d)) = (place(old)?, place(new)?);
    Some(format!("@@ -{a},{b} +{c},{d} @@\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(of: impl IntoIterator<Item = usize>) -> String {
        of.into_iter().map(|n| format!("line {n}\n")).collect()
    }

    #[test]
    fn a_change_in_the_middle_is_shown_where_it_stands() {
        let (a, b) = (lines(1..100), lines((1..50).chain([1_000]).chain(51..100)));
        let told = difference(&a, &b);
        assert_eq!(
            told,
            "--- before\n+++ after\n@@ -47,7 +47,7 @@\n line 47\n line 48\n line 49\n-line 50\n+line 1000\n line 51\n line 52\n line 53\n"
        );
    }

    #[test]
    fn two_large_documents_that_share_nothing_are_shown_one_after_the_other() {
        let (a, b) = (lines((0..3_000).map(|n| n * 2)), lines((0..3_000).map(|n| n * 2 + 1)));
        let told = difference(&a, &b);
        assert!(told.starts_with("--- before\n+++ after\n@@ -1,3000 +1,3000 @@\n-line 0\n"), "{}", &told[..80]);
        assert_eq!(told.lines().count(), 6_003);
    }

    #[test]
    fn a_line_that_looks_like_a_head_is_left_alone() {
        let (a, b) = ("x\n@@ -1,2 +1,2 @@\ny\n", "x\n@@ -1,2 +1,2 @@\nz\n");
        assert!(difference(a, b).contains("\n @@ -1,2 +1,2 @@\n"));
    }
}
