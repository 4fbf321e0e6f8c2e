//! Runs a program under ptrace, notes the system calls that change files, and can stop it dead after any of them.
//!
//! On x86-64 Linux only; elsewhere [`run`] gives None and the test says that it was skipped.

use std::process::Command;

/// One call that changed something.
#[derive(Clone, Debug)]
pub struct Call {
    /// Its name.
    pub name: &'static str,
    /// The path it names, where it names one.
    pub path: String,
    /// For a creating open: the mode asked for.
    pub mode: Option<u32>,
}

/// What was seen.
#[derive(Debug, Default)]
pub struct Trace {
    /// The calls, in order, up to the stop.
    pub calls: Vec<Call>,
    /// True if the program was stopped, false if it ended by itself.
    pub stopped: bool,
    /// Its exit code, if it ended by itself.
    pub code: Option<i32>,
}

/// Runs to the end, or kills the program when its `stop_after`-th changing call (from 1) has returned.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub fn run(mut command: Command, stop_after: Option<usize>) -> Option<Trace> {
    use nix::sys::ptrace;
    use nix::sys::signal::Signal;
    use nix::sys::wait::{WaitStatus, waitpid};
    use nix::unistd::Pid;
    use std::os::unix::process::CommandExt;
    use std::process::Stdio;

    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    // SAFETY: between fork and exec only a plain system call is made.
    unsafe {
        command.pre_exec(|| ptrace::traceme().map_err(Into::into));
    }
    let mut child = command.spawn().ok()?;
    let pid = Pid::from_raw(i32::try_from(child.id()).ok()?);
    waitpid(pid, None).ok()?;
    ptrace::setoptions(pid, ptrace::Options::PTRACE_O_TRACESYSGOOD | ptrace::Options::PTRACE_O_EXITKILL).ok()?;
    let mut trace = Trace::default();
    let mut entered: Option<Option<Call>> = None;
    loop {
        ptrace::syscall(pid, None).ok()?;
        match waitpid(pid, None).ok()? {
            WaitStatus::PtraceSyscall(_) => match entered.take() {
                None => entered = Some(call(pid)),
                Some(seen) => {
                    let failed = ptrace::getregs(pid).is_ok_and(|r| r.rax.cast_signed() < 0);
                    if let Some(seen) = seen.filter(|_| !failed) {
                        trace.calls.push(seen);
                        if stop_after == Some(trace.calls.len()) {
                            trace.stopped = true;
                            let _ = nix::sys::signal::kill(pid, Signal::SIGKILL);
                            let _ = waitpid(pid, None);
                            let _ = child.try_wait();
                            return Some(trace);
                        }
                    }
                }
            },
            WaitStatus::Exited(_, code) => {
                trace.code = Some(code);
                return Some(trace);
            }
            WaitStatus::Signaled(..) => return Some(trace),
            _ => {}
        }
    }
}

/// Elsewhere there is no trace.
#[cfg(not(all(target_os = "linux", target_arch = "x86_64")))]
pub fn run(_: Command, _: Option<usize>) -> Option<Trace> {
    None
}

/// The call about to be made, if it may change a file.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn call(pid: nix::unistd::Pid) -> Option<Call> {
    let r = nix::sys::ptrace::getregs(pid).ok()?;
    let fd =
        |n: u64| std::fs::read_link(format!("/proc/{pid}/fd/{n}")).map(|p| p.display().to_string()).unwrap_or_default();
    let (name, path, mode) = match r.orig_rax {
        1 | 18 if r.rdi > 2 && fd(r.rdi).starts_with('/') => ("write", fd(r.rdi), None),
        74 => ("fsync", fd(r.rdi), None),
        75 => ("fdatasync", fd(r.rdi), None),
        77 => ("ftruncate", fd(r.rdi), None),
        82 => ("rename", text(pid, r.rsi), None),
        83 => ("mkdir", text(pid, r.rdi), None),
        87 => ("unlink", text(pid, r.rdi), None),
        90 => ("chmod", text(pid, r.rdi), None),
        91 => ("fchmod", fd(r.rdi), None),
        // O_CREAT
        257 if r.rdx & 0o100 != 0 => ("create", text(pid, r.rsi), u32::try_from(r.r10).ok()),
        258 => ("mkdirat", text(pid, r.rsi), None),
        263 => ("unlinkat", text(pid, r.rsi), None),
        264 | 316 => ("renameat", text(pid, r.r10), None),
        268 => ("fchmodat", text(pid, r.rsi), None),
        _ => return None,
    };
    Some(Call { name, path, mode })
}

/// A C string in the program's memory.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn text(pid: nix::unistd::Pid, at: u64) -> String {
    use std::os::unix::fs::FileExt;
    let mut bytes = vec![0; 4096];
    let Ok(memory) = std::fs::File::open(format!("/proc/{pid}/mem")) else { return String::new() };
    // A string near the end of a page: read what is there.
    let n = (0..=12).rev().find_map(|p| memory.read_at(&mut bytes[..1 << p], at).ok()).unwrap_or(0);
    let end = bytes[..n].iter().position(|b| *b == 0).unwrap_or(n);
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}
