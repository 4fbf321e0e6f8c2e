//! Runs a program at a terminal of its own and types what a person would type.

use nix::pty::openpty;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

mod control {
    #![allow(missing_docs, reason = "made by a macro")]
    nix::ioctl_write_int_bad!(make_controlling, nix::libc::TIOCSCTTY);
}

/// How it ended, with everything that stood on the terminal.
pub struct Session {
    /// The exit code.
    pub code: i32,
    /// What was seen.
    pub seen: String,
}

/// Runs a command; each time the first awaited text appears, its answer is typed and the next one awaited.
pub fn run(mut command: Command, talk: &[(&str, &str)]) -> Session {
    // A screen of a usual height, and wide enough that no line is broken in the middle of what a test looks for.
    let size = nix::pty::Winsize { ws_row: 40, ws_col: 200, ws_xpixel: 0, ws_ypixel: 0 };
    let ends = openpty(Some(&size), None).unwrap();
    let slave = ends.slave;
    let copy = || Stdio::from(slave.try_clone().unwrap());
    command.env("TERM", "xterm");
    command.stdin(copy()).stdout(copy()).stderr(copy());
    // SAFETY: between fork and exec only plain system calls are made.
    unsafe {
        command.pre_exec(|| {
            nix::unistd::setsid()?;
            control::make_controlling(0, 0)?;
            Ok(())
        });
    }
    let mut child = command.spawn().unwrap();
    drop(command);
    drop(slave);
    let mut master = File::from(ends.master);
    nix::fcntl::fcntl(&master, nix::fcntl::FcntlArg::F_SETFL(nix::fcntl::OFlag::O_NONBLOCK)).unwrap();
    let (mut seen, mut from, mut talk) = (String::new(), 0, talk.iter());
    let mut next = talk.next();
    let begun = Instant::now();
    loop {
        let mut bytes = [0; 4096];
        let ended = child.try_wait().unwrap();
        match master.read(&mut bytes) {
            Ok(n) if n > 0 => seen.push_str(&String::from_utf8_lossy(&bytes[..n])),
            _ if ended.is_some() => return Session { code: ended.unwrap().code().unwrap_or(-1), seen },
            _ => std::thread::sleep(Duration::from_millis(5)),
        }
        if let Some((awaited, answer)) = next
            && let Some(at) = seen[from..].find(awaited)
        {
            from += at + awaited.len();
            // The echo is switched off a moment after the question is printed.
            std::thread::sleep(Duration::from_millis(100));
            master.write_all(answer.as_bytes()).unwrap();
            next = talk.next();
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing more came of fd {}: {seen}", master.as_raw_fd());
    }
}
