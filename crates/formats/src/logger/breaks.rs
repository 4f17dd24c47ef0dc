//! Line breaks within quotes: a line that leaves a quote open is tried together with the next ones.

use super::pass::{Pass, Taker};
use super::text::{Line, Lines};
use std::collections::VecDeque;
use std::io;

/// Physical lines that one record may hold.
const MOST: usize = 12;

/// Hands the lines of a file on, those joined that only together are a whole record.
pub(super) fn drive<T: Taker>(pass: &mut Pass<'_, T>, lines: &mut Lines) -> io::Result<()> {
    let mut queue: VecDeque<(usize, String, bool)> = VecDeque::new();
    let mut pull = |queue: &mut VecDeque<(usize, String, bool)>| -> io::Result<bool> {
        let Some(line) = lines.next_line()? else { return Ok(false) };
        queue.push_back((line.number, line.text.to_owned(), line.long));
        Ok(true)
    };
    loop {
        if queue.is_empty() && !pull(&mut queue)? {
            return Ok(());
        }
        let (number, text, long) = queue.pop_front().unwrap_or_default();
        if open(&text) && !long {
            let (mut joined, mut used) = (text.clone(), 0);
            while used < MOST && open(&joined) {
                if used == queue.len() && !pull(&mut queue)? {
                    break;
                }
                joined.push(' ');
                joined.push_str(&queue[used].1);
                used += 1;
            }
            if !open(&joined) && pass.is_whole(&joined) {
                let kind = pass.take(number, &joined, false);
                queue.drain(..used).for_each(|(number, text, _)| pass.take_more(kind, number, &text));
                continue;
            }
        }
        if !pass.line(Line { number, text: &text, long }) {
            return Ok(());
        }
    }
}

fn open(text: &str) -> bool {
    text.bytes().filter(|b| *b == b'"').count() % 2 == 1
}
