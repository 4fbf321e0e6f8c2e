//! How two things differ, field by field.

use crate::words::human;
use tamga_app::show::Differences;

pub(super) fn render(found: &Differences, (first, second): (&str, &str)) -> String {
    let all = &found.differences;
    let verdict = match (found.same_key, all.is_empty()) {
        (_, true) => human::good("no difference"),
        (true, false) => format!("{}; the key is the same", human::care("they differ")),
        (false, false) => format!("{}; the keys are not the same", human::care("they differ")),
    };
    let mut text = format!("{verdict}\n");
    if !all.is_empty() {
        let mut rows = vec![vec![human::dim("field"), human::dim(first), human::dim(second)]];
        let or_nothing = |s: &str| if s.is_empty() { human::dim("nothing") } else { briefly(s) };
        rows.extend(all.iter().map(|d| vec![human::strong(d.field), or_nothing(&d.first), or_nothing(&d.second)]));
        text.push_str(&human::table(&rows));
    }
    text
}

/// Fingerprints cut so that both columns fit a terminal; enough of them stays to tell them apart.
fn briefly(text: &str) -> String {
    const MOST: usize = 16;
    let word = |w: &str| match w.len() > 2 * MOST && w.bytes().all(|b| b.is_ascii_hexdigit()) {
        true => format!("{}…", &w[..MOST]),
        false => w.to_owned(),
    };
    text.split(' ').map(word).collect::<Vec<_>>().join(" ")
}
