//! What an admission keeps of a decision, in one buffer: many admissions are kept while nobody uses them, and each text of its own would
//! cost more for its place than it is long.
//!
//! Lengths come first, in LEB128: of the provider and the subject; how many sections there are, and a bit for each; then for each name that
//! the gate delivers the length of its value and one more, or 0 where it has none. The texts and values follow in that order.

/// See the module.
#[derive(Debug)]
pub(crate) struct Packed(Box<[u8]>);

/// What is in it: the person by provider and subject, whether each section lets them in, and a value for each name of the gate.
pub(crate) struct Contents<'a> {
    pub(crate) provider: &'a str,
    pub(crate) subject: &'a str,
    pub(crate) sections: &'a [bool],
    pub(crate) values: &'a [Option<&'a [u8]>],
}

fn put(out: &mut Vec<u8>, mut n: usize) {
    while n >= 0x80 {
        out.push(n as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

/// Takes a number off the front.
fn take(rest: &mut &[u8]) -> usize {
    let (mut n, mut shift) = (0, 0);
    while let Some((byte, after)) = rest.split_first() {
        *rest = after;
        n |= usize::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            break;
        }
        shift += 7;
    }
    n
}

/// Takes so many octets off the front.
fn cut<'a>(rest: &mut &'a [u8], n: usize) -> &'a [u8] {
    let (front, after) = rest.split_at_checked(n).unwrap_or_default();
    *rest = after;
    front
}

/// Whether a bit is set.
fn bit(bits: &[u8], i: usize) -> bool {
    bits.get(i / 8).is_some_and(|b| b >> (i % 8) & 1 == 1)
}

impl Packed {
    pub(crate) fn of(contents: &Contents<'_>) -> Packed {
        let Contents { provider, subject, sections, values } = contents;
        let mut out = vec![];
        put(&mut out, provider.len());
        put(&mut out, subject.len());
        put(&mut out, sections.len());
        out.extend(sections.chunks(8).map(|eight| eight.iter().enumerate().fold(0, |b, (i, s)| b | u8::from(*s) << i)));
        values.iter().for_each(|v| put(&mut out, v.map_or(0, |v| v.len() + 1)));
        out.extend(provider.bytes().chain(subject.bytes()));
        values.iter().flatten().for_each(|v| out.extend_from_slice(v));
        Packed(out.into())
    }

    /// The lengths of provider and subject, how many sections there are, and what follows that.
    fn begin(&self) -> (usize, usize, usize, &[u8]) {
        let mut rest = &*self.0;
        (take(&mut rest), take(&mut rest), take(&mut rest), rest)
    }

    /// Whether a section, by index, lets this person in.
    pub(crate) fn section(&self, index: usize) -> bool {
        let (_, _, sections, bits) = self.begin();
        index < sections && bit(bits, index)
    }

    /// What is in it, where the gate delivers so many names.
    pub(crate) fn read<T>(&self, names: usize, read: impl FnOnce(Contents<'_>) -> T) -> T {
        let (provider, subject, sections, mut rest) = self.begin();
        let bits = cut(&mut rest, sections.div_ceil(8));
        let sections: Vec<bool> = (0..sections).map(|i| bit(bits, i)).collect();
        let lengths: Vec<usize> = (0..names).map(|_| take(&mut rest)).collect();
        let provider = std::str::from_utf8(cut(&mut rest, provider)).unwrap_or_default();
        let subject = std::str::from_utf8(cut(&mut rest, subject)).unwrap_or_default();
        let values: Vec<_> = lengths.iter().map(|n| n.checked_sub(1).map(|n| cut(&mut rest, n))).collect();
        read(Contents { provider, subject, sections: &sections, values: &values })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_packed_is_read_again(
            provider in "\\PC{0,20}",
            subject in "\\PC{0,300}",
            sections in prop::collection::vec(any::<bool>(), 0..40),
            values in prop::collection::vec(prop::option::of(prop::collection::vec(any::<u8>(), 0..400)), 0..20),
        ) {
            let values: Vec<Option<&[u8]>> = values.iter().map(Option::as_deref).collect();
            let packed = Packed::of(&Contents { provider: &provider, subject: &subject, sections: &sections, values: &values });
            packed.read(values.len(), |c| {
                assert_eq!((c.provider, c.subject), (provider.as_str(), subject.as_str()));
                assert_eq!((c.sections, c.values), (&sections[..], &values[..]));
            });
            for (i, lets_in) in sections.iter().enumerate() {
                assert_eq!(packed.section(i), *lets_in);
            }
            assert!(!packed.section(sections.len()) && !packed.section(sections.len() + 8));
        }
    }

    #[test]
    fn lengths_are_short() {
        let values: [Option<&[u8]>; 3] = [Some(b"mara"), None, Some(b"")];
        let packed = Packed::of(&Contents { provider: "p", subject: "s1", sections: &[true, false], values: &values });
        assert_eq!(&*packed.0, b"\x01\x02\x02\x01\x05\x00\x01ps1mara");
    }
}
