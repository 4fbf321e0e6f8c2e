//! A shell on another machine, kept open: one connection, one script after the other, each answered before the next is sent.

use crate::entropy;
use crate::host_fault::HostFault;
use std::io::{Read, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tamga_core::plan::ports::Entropy as _;

/// Most that one script may print: the largest files that are read are bundles and stores of roots.
const LONGEST: usize = 64 << 20;
/// How much of what a program says on standard error is kept.
const SAID: usize = 8 << 10;

/// A shell on another machine.
pub(super) struct Shell {
    child: Child,
    input: ChildStdin,
    output: Receiver<Vec<u8>>,
    said: Arc<Mutex<Vec<u8>>>,
    mark: String,
}

/// How a script ended.
pub(super) struct Ended {
    /// What it printed.
    pub(super) output: Vec<u8>,
    /// Its exit code.
    pub(super) code: i32,
    /// The last line on standard error, if there was one.
    pub(super) said: Option<String>,
}

impl Shell {
    /// Starts it. Nothing is known of the other side before the first script has answered.
    pub(super) fn start(words: &[String]) -> Result<Shell, HostFault> {
        let program = words.first().ok_or_else(|| HostFault::Program("no program is named".into()))?;
        let mut command = Command::new(program);
        command.args(&words[1..]).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child =
            command.spawn().map_err(|e| HostFault::Program(format!("{program}: {}", crate::error::io_words(&e))))?;
        let (Some(input), Some(output), Some(errors)) = (child.stdin.take(), child.stdout.take(), child.stderr.take())
        else {
            return Err(HostFault::Program(format!("{program} has no streams")));
        };
        let mut octets = [0; 16];
        entropy::System.fill(&mut octets);
        let mark = octets.iter().map(|b| format!("{b:02x}")).collect();
        let said: Arc<Mutex<Vec<u8>>> = Arc::default();
        let kept = said.clone();
        std::thread::spawn(move || keep_last(errors, &kept));
        let (send, output_parts) = sync_channel(16);
        std::thread::spawn(move || {
            let mut output = output;
            let mut part = vec![0; 64 << 10];
            while let Ok(n) = output.read(&mut part) {
                if n == 0 || send.send(part[..n].to_vec()).is_err() {
                    return;
                }
            }
        });
        Ok(Shell { child, input, output: output_parts, said, mark })
    }

    /// Runs a script. Its standard input is empty; what it prints is returned.
    ///
    /// Errors: the connection is over, or the script does not end in time.
    pub(super) fn run(&mut self, script: &str, limit: Duration) -> Result<Ended, HostFault> {
        self.said.lock().unwrap_or_else(PoisonError::into_inner).clear();
        // The mark comes after a line end of its own, so that it stands alone whatever was printed before.
        let framed = format!("{{ {script}\n}} </dev/null\nprintf '\\n%s %s\\n' {} $?\n", self.mark);
        if self.input.write_all(framed.as_bytes()).and_then(|()| self.input.flush()).is_err() {
            return Err(self.over());
        }
        let (mut out, until) = (Vec::new(), Instant::now() + limit);
        let begin = format!("\n{} ", self.mark).into_bytes();
        let mut searched = 0;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            match self.output.recv_timeout(left) {
                Ok(part) => out.extend(part),
                Err(RecvTimeoutError::Timeout) => {
                    let _ = self.child.kill();
                    return Err(HostFault::Silent(limit.as_secs()));
                }
                Err(RecvTimeoutError::Disconnected) => return Err(self.over()),
            }
            if let Some(at) = find(&out[searched..], &begin).map(|at| at + searched)
                && out.ends_with(b"\n")
            {
                let code = std::str::from_utf8(&out[at + begin.len()..]).ok().and_then(|c| c.trim().parse().ok());
                let code = code.ok_or_else(|| HostFault::Program("its answer cannot be read".into()))?;
                out.truncate(at);
                return Ok(Ended { output: out, code, said: self.last_line() });
            }
            // The mark may have come in part.
            searched = out.len().saturating_sub(begin.len() + 8).max(searched.min(out.len()));
            if out.len() > LONGEST {
                let _ = self.child.kill();
                return Err(HostFault::Program(format!("it printed more than {} MiB", LONGEST >> 20)));
            }
        }
    }

    fn last_line(&self) -> Option<String> {
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        let text = String::from_utf8_lossy(&said);
        text.lines().rev().map(str::trim).find(|l| !l.is_empty()).map(tamga_core::vocabulary::text::harmless)
    }

    /// Why the connection is over.
    fn over(&mut self) -> HostFault {
        let _ = self.child.wait();
        // What it said last may still be on its way.
        std::thread::sleep(Duration::from_millis(20));
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        HostFault::of_words(&String::from_utf8_lossy(&said))
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn keep_last(mut errors: impl Read, kept: &Mutex<Vec<u8>>) {
    let mut part = [0; 4096];
    while let Ok(n) = errors.read(&mut part) {
        if n == 0 {
            return;
        }
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.extend_from_slice(&part[..n]);
        let more = kept.len().saturating_sub(SAID);
        kept.drain(..more);
    }
}

/// Where octets are in others.
pub(super) fn find(within: &[u8], sought: &[u8]) -> Option<usize> {
    within.windows(sought.len()).position(|w| w == sought)
}

/// A word for a shell, quoted: nothing in it is read as anything else (POSIX.1-2017, Shell Command Language, 2.2.2).
pub(super) fn quoted(word: &str) -> String {
    format!("'{}'", word.replace('\'', r"'\''"))
}

/// Commands that print octets, whatever they are: every shell's `printf` knows three octal digits. A `-` is among those that are written so:
/// at the beginning it would be an option.
pub(super) fn printing(octets: &[u8]) -> String {
    let mut script = String::from("{ :; ");
    for part in octets.chunks(4 << 10) {
        script.push_str("printf '");
        for b in part {
            match b {
                b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b' ' | b'+' | b'/' | b'=' | b'_' | b'.' | b',' | b':' => {
                    script.push(char::from(*b));
                }
                _ => script.push_str(&format!("\\{b:03o}")),
            }
        }
        script.push_str("'; ");
    }
    script.push('}');
    script
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use proptest::prelude::*;

    fn shell() -> Shell {
        Shell::start(&["sh".to_owned()]).unwrap()
    }

    #[test]
    #[cfg(unix)]
    fn scripts_follow_each_other() {
        let mut shell = shell();
        let wait = Duration::from_secs(20);
        let one = shell.run("printf 'a\\nb'", wait).unwrap();
        assert_eq!((one.output.as_slice(), one.code), (&b"a\nb"[..], 0));
        let two = shell.run("echo no >&2; cat; (exit 7)", wait).unwrap();
        assert_eq!((two.output.len(), two.code), (0, 7));
        let pem = shell.run(&printing(b"-----BEGIN CERTIFICATE-----\n%s\\n"), wait).unwrap();
        assert_eq!(pem.output, b"-----BEGIN CERTIFICATE-----\n%s\\n");
        // A script that ends the shell is a connection that is over; one that hangs is stopped.
        assert!(matches!(shell.run("exit 3", wait), Err(HostFault::Unreached(_))));
        let mut shell = Shell::start(&["sh".to_owned()]).unwrap();
        assert!(matches!(shell.run("sleep 20", Duration::from_millis(200)), Err(HostFault::Silent(_))));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        #[cfg(unix)]
        fn octets_and_words_arrive_as_they_are(octets in proptest::collection::vec(any::<u8>(), 0..9000), word in "[^\0]{0,40}") {
            let mut shell = shell();
            let ended = shell.run(&printing(&octets), Duration::from_secs(20)).unwrap();
            prop_assert_eq!(ended.output, octets);
            let ended = shell.run(&format!("printf '%s' {}", quoted(&word)), Duration::from_secs(20)).unwrap();
            prop_assert_eq!(String::from_utf8(ended.output).unwrap(), word);
        }
    }
}
