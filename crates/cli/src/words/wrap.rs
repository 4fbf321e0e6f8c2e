//! Long lines at a terminal: broken between words, and what follows stands below the column that it belongs to.

use std::io::IsTerminal;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// How many columns the terminal behind a stream has; None where there is none, or a useless one.
pub(crate) fn width_of(stream: &impl IsTerminal) -> Option<usize> {
    let (width, _) = terminal_size::terminal_size()?;
    (width.0 >= 40 && stream.is_terminal()).then_some(usize::from(width.0))
}

/// How many columns of a terminal a text takes; its styles take none.
pub(crate) fn width_seen(text: &str) -> usize {
    anstream::adapter::strip_str(text).map(UnicodeWidthStr::width).sum()
}

/// The text as this terminal shows it well; unchanged where the stream is none.
pub(crate) fn for_terminal(text: &str, stream: &impl IsTerminal) -> String {
    width_of(stream).map_or_else(|| text.to_owned(), |width| wrapped(text, width))
}

/// A line with a command is copied from here to be typed: a break in it would cut the command in two.
fn has_a_command(line: &str) -> bool {
    ["tamga ", "sudo ", "curl ", "chmod "].iter().any(|c| line.contains(c))
}

/// No line longer than `width` characters, but for words that are.
fn wrapped(text: &str, width: usize) -> String {
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        match line.strip_suffix('\n') {
            _ if has_a_command(line) => out.push_str(line),
            Some(line) => {
                one(line, width, &mut out);
                out.push('\n');
            }
            None => one(line, width, &mut out),
        }
    }
    out
}

fn one(line: &str, width: usize, out: &mut String) {
    let mut rest = line;
    let mut indent = 0;
    loop {
        let cells = cells(rest);
        let room = width - indent;
        if cells.len() <= room {
            out.push_str(rest);
            return;
        }
        let hanging = if indent == 0 { column(&cells, width / 2) } else { 0 };
        let breaks = (hanging + 1..=room).rev().find(|&i| cells[i].1 == ' ' && cells[i - 1].1 != ' ');
        let Some(at) = breaks else {
            out.push_str(rest);
            return;
        };
        out.push_str(&rest[..cells[at].0]);
        out.push('\n');
        indent = indent.max(hanging);
        out.push_str(&" ".repeat(indent));
        rest = rest[cells[at].0..].trim_start_matches(' ');
    }
}

/// Where the last column of a line begins: after its last gap of two blanks or more in the first `most` characters, else
/// where its first word begins.
fn column(cells: &[(usize, char)], most: usize) -> usize {
    let word = |i: usize| cells[i].1 != ' ';
    let gap = |i: usize| i >= 2 && cells[i - 1].1 == ' ' && cells[i - 2].1 == ' ';
    let most = most.min(cells.len());
    let last = (0..most).rev().find(|&i| word(i) && gap(i));
    last.or_else(|| (0..most).find(|&i| word(i))).unwrap_or(0)
}

/// The columns that are seen, each with its character and the place of that in the line: a style is not seen.
fn cells(line: &str) -> Vec<(usize, char)> {
    let mut out = Vec::new();
    let mut style = false;
    for (place, c) in line.char_indices() {
        match (style, c) {
            (false, '\u{1b}') => style = true,
            (true, c) => style = !c.is_ascii_alphabetic(),
            // A wide character takes two columns, a combining one none.
            (false, c) => (0..c.width().unwrap_or(0)).for_each(|_| out.push((place, c))),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::wrapped;

    #[test]
    fn what_follows_stands_below_its_column() {
        let line = "  may certify   charts.saltmarsh.test, buoys.saltmarsh.test; 127.0.0.0/8, ::1/128\nnext\n";
        let want = "  may certify   charts.saltmarsh.test,\n                buoys.saltmarsh.test; 127.0.0.0/8,\n                \
                    ::1/128\nnext\n";
        assert_eq!(wrapped(line, 52), want);
        assert_eq!(wrapped(line, 200), line);
    }

    #[test]
    fn prose_keeps_its_own_indent_and_styles_are_not_counted() {
        assert_eq!(wrapped("      a note that is long enough", 20), "      a note that is\n      long enough");
        let styled = "\u{1b}[1mcharts\u{1b}[0m of the lab";
        assert_eq!(wrapped(styled, 17), styled);
        assert_eq!(wrapped(styled, 14), "\u{1b}[1mcharts\u{1b}[0m of the\nlab");
    }

    #[test]
    fn a_command_is_never_cut() {
        let line = "  do:  sudo tamga trust add saltmarsh --scope machine";
        assert_eq!(wrapped(line, 40), line);
    }

    #[test]
    fn a_word_without_blanks_stays_whole() {
        let line = format!("  SHA-256  {}", "0".repeat(64));
        assert_eq!(wrapped(&line, 40), line);
    }

    proptest::proptest! {
        #[test]
        fn nothing_is_lost(line in "[ a-z\u{1b}é]{0,120}", width in 40_usize..90) {
            let squeezed = |t: &str| t.split_whitespace().collect::<Vec<_>>().join(" ");
            assert_eq!(squeezed(&wrapped(&line, width)), squeezed(&line));
        }
    }
}
