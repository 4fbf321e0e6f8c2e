//! Transcripts: pages whose commands are run and whose output is compared. What differs from run to run (paths, seconds,
//! fingerprints, ports) is replaced by something of the same width that never changes.

use crate::clock::Clock;
use crate::sandbox::Sandbox;
use regex::{Captures, Regex};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Stdio;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What the sandbox is called in a transcript: as long as its real name below `/tmp`, so that columns stay where they are.
const PLACE: &str = "/srv/saltmarsh-tide-01";
/// When every transcript begins.
const START: &str = "2026-06-01T09:00:00Z";

/// Begins a block of commands.
const FENCE: &str = "```console";

/// The page with what its commands print now. In: the page; where to run them.
pub fn run(page: &str, s: &Sandbox) -> String {
    let mut steady = Steady::new(s);
    let clock = Clock::beginning_at(s, START.parse::<Timestamp>().unwrap().unix());
    let mut out = String::new();
    let mut inside = false;
    for line in page.lines() {
        match (inside, line) {
            (false, _) => {
                out.push_str(&format!("{line}\n"));
                inside = line == FENCE;
            }
            (true, "```") => {
                out.push_str("```\n");
                inside = false;
            }
            (true, _) => {
                if let Some(command) = line.strip_prefix("$ ") {
                    if [" list", " status"].iter().any(|w| command.contains(w)) {
                        // Days are counted whole: of the one that began with the certificate a second must be over.
                        std::thread::sleep(std::time::Duration::from_millis(1_000));
                    }
                    // What looks like a command in the output of another is moved aside: it is not run.
                    let text = steady.text(&said(command, s, &clock)).replace("\n$ ", "\n $ ");
                    out.push_str(&format!("{line}\n{text}"));
                }
            }
        }
    }
    out
}

/// The commands of a page.
pub fn commands(page: &str) -> impl Iterator<Item = &str> {
    page.lines().filter_map(|l| l.strip_prefix("$ "))
}

fn said(command: &str, s: &Sandbox, clock: &Clock) -> String {
    // The pages name the sandbox as they show it.
    let command = command.replace(PLACE, &s.path("").display().to_string());
    let mut shell = clock.over(s.around("/bin/sh"));
    let ended = shell.args(["-c", &format!("{{ {command}\n}} 2>&1")]).stdin(Stdio::null()).output().unwrap();
    let mut text = String::from_utf8_lossy(&ended.stdout).into_owned();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    match ended.status.code() {
        Some(0) => text,
        code => format!("{text}[exit code {}]\n", code.unwrap_or(-1)),
    }
}

/// Replaces what differs from run to run, the same by the same.
struct Steady {
    real: String,
    program: String,
    /// The first eight digits of a number, and which it was.
    numbers: BTreeMap<String, u64>,
    hex: Regex,
    time: Regex,
    port: Regex,
    base64: Regex,
    scratch: Regex,
}

impl Steady {
    fn new(s: &Sandbox) -> Steady {
        let regex = |pattern: &str| Regex::new(pattern).unwrap();
        Steady {
            real: Path::new(&s.path("")).display().to_string().trim_end_matches('/').to_owned(),
            program: s.program().display().to_string(),
            numbers: BTreeMap::new(),
            hex: regex(r"\b(?:[0-9a-f]{8,}|[0-9A-F]{16,}|(?:[0-9A-F]{2}:){7,}[0-9A-F]{2})\b"),
            time: regex(r"T[0-9]{2}:[0-9]{2}:[0-9]{2}Z"),
            port: regex(r"(localhost|\.test|127\.0\.0\.1|\]|port):?( ?)([0-9]{5})\b"),
            base64: regex(r"[A-Za-z0-9+/]{43}="),
            scratch: regex(r"tamga-demo-\w{6}"),
        }
    }

    fn text(&mut self, text: &str) -> String {
        let text = text.replace(&self.real, PLACE).replace(&self.program, "/usr/bin/tamga");
        let text = self.base64.replace_all(&text, |c: &Captures<'_>| format!("{:B<1$}=", "", c[0].len() - 1));
        let text = self.scratch.replace_all(&text, "tamga-demo-tide01");
        let text = self.time.replace_all(&text, "T09:00:00Z").into_owned();
        let text = self.port.replace_all(&text, |c: &Captures<'_>| c[0].replace(&c[3], "18443")).into_owned();
        let numbers = &mut self.numbers;
        self.hex.replace_all(&text, |c: &Captures<'_>| number(&c[0], numbers)).into_owned()
    }
}

/// Hexadecimal digits of a revocation list's number.
const LIST_NUMBER: usize = 10;

/// Another number of the same length, which is the same for numbers that begin alike.
fn number(seen: &str, numbers: &mut BTreeMap<String, u64>) -> String {
    let digits: String = seen.chars().filter(|c| *c != ':').collect::<String>().to_lowercase();
    let next = numbers.len() as u64 + 1;
    // Numbers of revocation lists are seconds: whether two of them begin alike depends on when they were signed.
    let known = if digits.len() == LIST_NUMBER { "of a list" } else { &digits[..8] };
    let mut state = *numbers.entry(known.to_owned()).or_insert(next);
    let mut made = String::new();
    while made.len() < digits.len() {
        // SplitMix64: neighbours look nothing alike.
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = state;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        made.push_str(&format!("{:016x}", z ^ (z >> 31)));
    }
    made.truncate(digits.len());
    let mut rest = made.chars();
    let is_upper = seen.chars().any(|c| c.is_ascii_uppercase());
    let digit = |c: char| match c {
        ':' => ':',
        _ => rest.next().map_or('0', |d| if is_upper { d.to_ascii_uppercase() } else { d }),
    };
    seen.chars().map(digit).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_and_its_beginning_stay_together_and_keep_their_form() {
        let mut numbers = BTreeMap::new();
        let long = number("0123456789abcdef0123", &mut numbers);
        assert!(long.starts_with(&number("01234567", &mut numbers)));
        assert_eq!(long.len(), 20);
        assert_ne!(long, number("1123456789abcdef0123", &mut numbers));
        let spelled = number("01:23:45:67:89:AB:CD:EF", &mut numbers);
        assert_eq!(spelled.replace(':', "").to_lowercase(), long[..16]);
    }
}
