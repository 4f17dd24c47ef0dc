//! Lines of a file from its head, its middle and its tail, with their neighbours, and some of each rare look.

use super::super::text::{Text, without_zeros};
use std::collections::{BTreeMap, VecDeque};
use std::io;

/// One line of the sample.
#[derive(Debug, Clone)]
pub(super) struct Sampled {
    /// Line in the file.
    pub number: usize,
    pub text: String,
}

/// Lines from the head, in each stretch of the middle, from the tail.
const HEAD: usize = 400;
const STRETCHES: usize = 8;
const STRETCH: usize = 40;
const TAIL: usize = 100;
/// Of the head, of all stretches together, of rare looks and of the tail at most so many bytes: lines of very many columns need no more.
const MOST_BYTES: usize = 1 << 20;
/// Looks of lines that are told apart, and lines kept of each.
const LOOKS: (usize, usize) = (60, 6);

/// How a line looks: how often each separator stands in it.
type Look = [u16; 5];

fn look(text: &str) -> Look {
    let mut counts = [0; 5];
    for b in text.bytes() {
        let at = match b {
            b',' => 0,
            b';' => 1,
            b'\t' => 2,
            b'|' => 3,
            b'=' => 4,
            _ => continue,
        };
        counts[at] = u16::saturating_add(counts[at], 1);
    }
    counts
}

/// The sample, in the order of the file. Blank lines and lines without end are not in it.
pub(super) fn sample(text: &Text) -> io::Result<Vec<Sampled>> {
    let lines = text.about_lines();
    let stride = (lines.saturating_sub(HEAD + TAIL) / STRETCHES).max(STRETCH);
    let (mut out, mut tail) = (Vec::new(), VecDeque::with_capacity(TAIL + 1));
    // Of the head, of each stretch, and of rare looks.
    let (mut bytes, mut tail_bytes) = ([0; STRETCHES + 2], 0);
    let mut looks: BTreeMap<Look, usize> = BTreeMap::new();
    let mut from = text.lines()?;
    while let Some(line) = from.next_line()? {
        let said = without_zeros(line.text);
        if line.long || said.trim().is_empty() {
            continue;
        }
        let behind = line.number.saturating_sub(HEAD);
        let wanted = line.number <= HEAD || behind % stride < STRETCH;
        // A line that ends in the middle of a number looks like others; a table of its own has another number of separators.
        let look = look(said);
        let of_look = looks.len() < LOOKS.0 || looks.contains_key(&look);
        let rare = of_look && {
            let n = looks.entry(look).or_default();
            *n += 1;
            *n <= LOOKS.1
        };
        let part = if line.number <= HEAD { 0 } else { (1 + behind / stride).min(STRETCHES) };
        let room = |part: usize| if (1..=STRETCHES).contains(&part) { MOST_BYTES / STRETCHES } else { MOST_BYTES };
        let parts = [wanted.then_some(part), rare.then_some(STRETCHES + 1)];
        if let Some(part) = parts.into_iter().flatten().find(|part| bytes[*part] < room(*part)) {
            bytes[part] += said.len();
            out.push(Sampled { number: line.number, text: said.to_owned() });
        } else if line.number + TAIL >= lines {
            tail_bytes += said.len();
            tail.push_back(Sampled { number: line.number, text: said.to_owned() });
            while tail.len() > TAIL || (tail_bytes > MOST_BYTES && tail.len() > 1) {
                tail_bytes -= tail.pop_front().map_or(0, |s| s.text.len());
            }
        }
    }
    out.extend(tail);
    out.sort_by_key(|s| s.number);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn head_middle_tail_and_what_looks_otherwise() {
        let mut file: Vec<String> = (1..=20_000).map(|i| format!("{i},1,2")).collect();
        file[12_345] = "a;b;c;d".into();
        let text = Text::of_bytes(file.join("\n").into_bytes()).unwrap();
        let got = sample(&text).unwrap();
        assert!(got.len() < 1000 && got.windows(2).all(|w| w[0].number < w[1].number));
        for wanted in [1, 400, 12_346, 19_999, 20_000] {
            assert!(got.iter().any(|s| s.number == wanted), "{wanted}");
        }
        let neighbours =
            got.windows(2).filter(|w| w[0].number + 1 == w[1].number && (1000..19_000).contains(&w[0].number)).count();
        assert!(neighbours > 200, "the middle comes in stretches: {neighbours}");
    }

    #[test]
    fn lines_of_very_many_columns_are_sampled_in_bounded_memory() {
        let line = "1,".repeat(10_000);
        let text = Text::of_bytes([line.as_str(); 1500].join("\n").into_bytes()).unwrap();
        let got = sample(&text).unwrap();
        let bytes: usize = got.iter().map(|s| s.text.len()).sum();
        assert!(bytes < 4 * MOST_BYTES + (3 + STRETCHES) * line.len(), "{bytes}");
        let among = |lines: std::ops::Range<usize>| got.iter().filter(|s| lines.contains(&s.number)).count();
        let parts = [among(1..HEAD), among(HEAD..1400), among(1400..1501)];
        assert!(parts.iter().all(|n| *n >= 40), "head, middle and tail: {parts:?}");
    }
}
