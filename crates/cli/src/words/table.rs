//! Tables that fit the screen: cells break between words, columns that can be missed go before a row needs two lines.

use super::wrap::width_seen;

/// The width of a table where nobody can say how wide the screen is.
const USUAL: usize = 80;
/// A column is not made narrower than this to spare a line.
const NARROWEST: usize = 16;
/// Columns go before what is cut instead of broken is cut to less than this.
const LEAST_CUT: usize = 32;
/// The last column gives way before the others down to this.
const PROSE: usize = 28;
/// Blanks between two columns.
const GAP: usize = 2;

/// What may be done to a table that is too wide.
#[derive(Clone, Copy, Default)]
pub(crate) struct Fit {
    /// Columns that can be missed, the first to go first.
    pub(crate) expendable: &'static [usize],
    /// The column that is cut instead of broken into lines.
    pub(crate) cut: Option<usize>,
}

/// Rows in columns, as wide as the terminal, or 80 characters where standard output is none.
pub(crate) fn table(rows: &[Vec<String>]) -> String {
    table_with(rows, Fit::default())
}

/// The same, with columns that can be missed.
pub(crate) fn table_with(rows: &[Vec<String>], fit: Fit) -> String {
    render(rows, fit, super::wrap::width_of(&std::io::stdout()).unwrap_or(USUAL))
}

fn render(rows: &[Vec<String>], fit: Fit, width: usize) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |i: usize, of: &dyn Fn(&str) -> usize| rows.iter().filter_map(|r| r.get(i)).map(|c| of(c)).max();
    let mut widths: Vec<usize> = (0..columns).map(|i| widest(i, &width_seen).unwrap_or(0)).collect();
    let least: Vec<usize> = (0..columns)
        .map(|i| match fit.cut == Some(i) {
            true => widths[i].min(NARROWEST),
            false => widest(i, &longest_word).unwrap_or(0).max(widths[i].min(NARROWEST)),
        })
        .collect();
    let mut kept: Vec<usize> = (0..columns).collect();
    let needs = |widths: &[usize], kept: &[usize]| -> usize { kept.iter().map(|i| GAP + widths[*i]).sum() };
    // The column that is cut gives way first; then columns go; then cells break.
    for gone in fit.expendable {
        let mut narrow = widths.clone();
        if let Some(cut) = fit.cut {
            narrow[cut] = widths[cut].min(LEAST_CUT);
        }
        if needs(&narrow, &kept) > width {
            kept.retain(|i| i != gone);
        }
    }
    while needs(&widths, &kept) > width {
        let over = needs(&widths, &kept) - width;
        let can_shrink = |i: &&usize| widths[**i] > least[**i];
        let cut = fit.cut.filter(|c| kept.contains(c) && can_shrink(&c));
        // The last column is prose; the others are better read whole.
        let last = kept.last().filter(|i| can_shrink(i) && widths[**i] > PROSE).copied();
        let widest = || kept.iter().filter(can_shrink).max_by_key(|i| widths[**i]).copied();
        let Some(at) = cut.or(last).or_else(widest) else { break };
        // Down to the next widest that can shrink too, then one by one: two long columns share what is missing.
        let second = kept.iter().filter(|i| **i != at).filter(can_shrink).map(|i| widths[*i]).max().unwrap_or(0);
        let to = match (cut, last) {
            (Some(_), _) => least[at],
            (None, Some(_)) => least[at].max(PROSE),
            (None, None) => second.max(least[at]),
        };
        let by = over.min(widths[at].saturating_sub(to)).max(1);
        widths[at] -= by;
    }
    let mut text = String::new();
    for row in rows {
        let cells: Vec<(usize, Vec<String>)> = kept
            .iter()
            .map(|i| {
                let cell = row.get(*i).map(String::as_str).unwrap_or_default();
                (widths[*i], if fit.cut == Some(*i) { vec![cut(cell, widths[*i])] } else { broken(cell, widths[*i]) })
            })
            .collect();
        let height = cells.iter().map(|(_, lines)| lines.len()).max().unwrap_or(1);
        for at in 0..height {
            let mut line = String::new();
            for (width, lines) in &cells {
                let part = lines.get(at).map(String::as_str).unwrap_or_default();
                line.push_str(&" ".repeat(GAP));
                line.push_str(part);
                line.push_str(&" ".repeat(width.saturating_sub(width_seen(part))));
            }
            text.push_str(line.trim_end());
            text.push('\n');
        }
    }
    text
}

fn longest_word(cell: &str) -> usize {
    cell.split(' ').map(width_seen).max().unwrap_or(0)
}

/// The style around a whole cell, and its text; None if the style is of a part only.
fn style_of(cell: &str) -> (&str, &str, &str) {
    let Some(begin) = cell.strip_prefix('\u{1b}').and_then(|r| r.find('m')).map(|m| m + 2) else {
        return ("", cell, "");
    };
    let Some(end) = cell.rfind('\u{1b}').filter(|e| *e >= begin && cell.ends_with('m')) else { return ("", cell, "") };
    match cell[begin..end].contains('\u{1b}') {
        true => ("", cell, ""),
        false => (&cell[..begin], &cell[begin..end], &cell[end..]),
    }
}

/// A cell in lines of at most this width, but for words that are longer.
fn broken(cell: &str, width: usize) -> Vec<String> {
    if width_seen(cell) <= width {
        return vec![cell.to_owned()];
    }
    let (begin, text, end) = style_of(cell);
    let mut lines: Vec<String> = Vec::new();
    let mut line = String::new();
    for word in text.split(' ').filter(|w| !w.is_empty()) {
        if !line.is_empty() && width_seen(&line) + 1 + width_seen(word) > width {
            lines.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    lines.push(line);
    lines.into_iter().map(|l| format!("{begin}{l}{end}")).collect()
}

/// A cell on one line: after the last word that has room comes an ellipsis.
fn cut(cell: &str, width: usize) -> String {
    if width_seen(cell) <= width {
        return cell.to_owned();
    }
    let (begin, text, end) = style_of(cell);
    let mut kept = String::new();
    for word in text.split(' ') {
        if width_seen(&kept) + width_seen(word) + 2 > width {
            break;
        }
        kept.push_str(word);
        kept.push(' ');
    }
    if kept.is_empty() {
        kept = text.chars().take(width.saturating_sub(1)).collect();
    }
    format!("{begin}{}…{end}", kept)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(all: &[&[&str]]) -> Vec<Vec<String>> {
        all.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect()
    }

    #[test]
    fn a_long_cell_breaks_between_words_below_its_column() {
        let rows = rows(&[&["curl", "refuses", "SSL certificate problem: unable to get local issuer certificate"]]);
        let want = "  curl  refuses  SSL certificate problem:\n                 unable to get local issuer\n                 certificate\n";
        assert_eq!(render(&rows, Fit::default(), 44), want);
        assert_eq!(render(&rows, Fit::default(), 200).lines().count(), 1);
    }

    #[test]
    fn columns_that_can_be_missed_go_before_a_line_is_doubled() {
        let rows = rows(&[
            &["label", "under", "names"],
            &["charts.saltmarsh.test", "saltmarsh", "charts.saltmarsh.test, localhost"],
        ]);
        let fit = Fit { expendable: &[1], cut: Some(2) };
        assert_eq!(
            render(&rows, fit, 49),
            "  label                  names\n  charts.saltmarsh.test  charts.saltmarsh.test, …\n"
        );
        assert!(render(&rows, fit, 120).contains("saltmarsh  charts"));
    }

    #[test]
    fn a_fingerprint_is_never_broken_and_every_line_has_its_style() {
        let print = "0".repeat(64);
        assert_eq!(render(&rows(&[&["root", &print]]), Fit::default(), 40), format!("  root  {print}\n"));
        let styled = "\u{1b}[2mtwo words here\u{1b}[0m";
        assert_eq!(broken(styled, 9), ["\u{1b}[2mtwo words\u{1b}[0m", "\u{1b}[2mhere\u{1b}[0m"]);
    }

    proptest::proptest! {
        #[test]
        fn nothing_is_lost_and_no_line_is_too_long(cells in proptest::collection::vec("[a-zé世 ]{0,60}", 1..6), width in 40_usize..120) {
            let text = render(std::slice::from_ref(&cells), Fit::default(), width);
            let squeezed = |t: &str| { let mut c: Vec<char> = t.chars().filter(|c| !c.is_whitespace()).collect(); c.sort_unstable(); c };
            assert_eq!(squeezed(&text), squeezed(&cells.concat()));
            let least: usize = cells.iter().map(|c| GAP + longest_word(c).max(width_seen(c).min(NARROWEST))).sum();
            for line in text.lines() {
                assert!(width_seen(line) <= width.max(least), "{line:?}");
            }
        }
    }
}
