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
pub fn run(command: Command, stop_after: Option<usize>) -> Option<Trace> {
    traced(command, stop_after, None)
}

/// Runs to the end; its `at`-th changing call (from 1) is not made, and returns this error.
pub fn fail(command: Command, at: usize, error: nix::errno::Errno) -> Option<Trace> {
    traced(command, None, Some((at, error)))
}

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn traced(mut command: Command, stop_after: Option<usize>, fail: Option<(usize, nix::errno::Errno)>) -> Option<Trace> {
    use nix::sys::ptrace;
    use nix::sys::signal::Signal;
    use nix::sys::wait::{WaitStatus, waitpid};
    use nix::unistd::Pid;
    use std::os::unix::process::CommandExt;
    use std::process::Stdio;

    // Tamga keeps its memory to itself; builds for tests let a tracer read it.
    command.env("TAMGA_TESTS_TRACE", "1");
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
    // Calls as they are made, whether or not they succeed: by this count one is refused.
    let mut made = 0;
    let mut refused = false;
    loop {
        ptrace::syscall(pid, None).ok()?;
        match waitpid(pid, None).ok()? {
            WaitStatus::PtraceSyscall(_) => match entered.take() {
                None => {
                    let seen = call(pid);
                    made += usize::from(seen.is_some());
                    if let Some((at, _)) = fail
                        && seen.is_some()
                        && made == at
                    {
                        // A call that does not exist: the kernel makes none.
                        let mut r = ptrace::getregs(pid).ok()?;
                        r.orig_rax = u64::MAX;
                        ptrace::setregs(pid, r).ok()?;
                        refused = true;
                    }
                    entered = Some(seen);
                }
                Some(seen) => {
                    if let Some((_, error)) = fail.filter(|_| std::mem::take(&mut refused)) {
                        let mut r = ptrace::getregs(pid).ok()?;
                        r.rax = i64::from(-(error as i32)).cast_unsigned();
                        ptrace::setregs(pid, r).ok()?;
                    }
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

/// Runs to the end, and counts just before it how often each of these byte strings is in the program's memory. They are asked for then,
/// when its files exist. None where memory cannot be read.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub fn search_at_exit(mut command: Command, needles: impl FnOnce() -> Vec<Vec<u8>>) -> Option<Vec<usize>> {
    use nix::sys::ptrace;
    use nix::sys::wait::{WaitStatus, waitpid};
    use nix::unistd::Pid;
    use std::os::unix::fs::FileExt;
    use std::os::unix::process::CommandExt;
    use std::process::Stdio;

    command.env("TAMGA_TESTS_TRACE", "1").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    // SAFETY: between fork and exec only a plain system call is made.
    unsafe {
        command.pre_exec(|| ptrace::traceme().map_err(Into::into));
    }
    let child = command.spawn().ok()?;
    let pid = Pid::from_raw(i32::try_from(child.id()).ok()?);
    waitpid(pid, None).ok()?;
    ptrace::setoptions(pid, ptrace::Options::PTRACE_O_TRACEEXIT | ptrace::Options::PTRACE_O_EXITKILL).ok()?;
    loop {
        ptrace::cont(pid, None).ok()?;
        match waitpid(pid, None).ok()? {
            WaitStatus::PtraceEvent(..) => break,
            WaitStatus::Exited(..) | WaitStatus::Signaled(..) => return None,
            _ => {}
        }
    }
    let needles = needles();
    let mut found = vec![0; needles.len()];
    let maps = std::fs::read_to_string(format!("/proc/{pid}/maps")).ok()?;
    let memory = std::fs::File::open(format!("/proc/{pid}/mem")).ok()?;
    let mut seen = 0_u64;
    for line in maps.lines().filter(|l| l.split(' ').nth(1).is_some_and(|p| p.starts_with("rw"))) {
        let (from, to) = line.split(' ').next()?.split_once('-')?;
        let (from, to) = (u64::from_str_radix(from, 16).ok()?, u64::from_str_radix(to, 16).ok()?);
        let mut bytes = vec![0; usize::try_from(to - from).ok()?];
        let Ok(n) = memory.read_at(&mut bytes, from) else { continue };
        seen += n as u64;
        for (count, needle) in found.iter_mut().zip(&needles) {
            let first = needle[0];
            *count += bytes[..n].windows(needle.len()).filter(|w| w[0] == first && w == needle).count();
        }
    }
    let _ = ptrace::cont(pid, None);
    let _ = waitpid(pid, None);
    assert!(seen > 100_000, "so little memory cannot be all of it");
    Some(found)
}

/// Elsewhere memory is not read.
#[cfg(not(all(target_os = "linux", target_arch = "x86_64")))]
pub fn search_at_exit(_: Command, _: impl FnOnce() -> Vec<Vec<u8>>) -> Option<Vec<usize>> {
    None
}

/// Elsewhere there is no trace.
#[cfg(not(all(target_os = "linux", target_arch = "x86_64")))]
fn traced(_: Command, _: Option<usize>, _: Option<(usize, nix::errno::Errno)>) -> Option<Trace> {
    None
}

/// The call about to be made, if it may change a file.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn call(pid: nix::unistd::Pid) -> Option<Call> {
    let r = nix::sys::ptrace::getregs(pid).ok()?;
    let fd =
        |n: u64| std::fs::read_link(format!("/proc/{pid}/fd/{n}")).map(|p| p.display().to_string()).unwrap_or_default();
    // A name in an open directory, or a path.
    let at = |directory: u64, name: u64| {
        let name = text(pid, name);
        let here = directory as u32 == nix::libc::AT_FDCWD.cast_unsigned();
        if here || name.starts_with('/') { name } else { format!("{}/{name}", fd(directory)) }
    };
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
        257 if r.rdx & 0o100 != 0 => ("create", at(r.rdi, r.rsi), u32::try_from(r.r10).ok()),
        93 => ("fchown", fd(r.rdi), None),
        258 => ("mkdirat", at(r.rdi, r.rsi), None),
        263 => ("unlinkat", at(r.rdi, r.rsi), None),
        264 | 316 => ("renameat", at(r.rdx, r.r10), None),
        265 => ("linkat", at(r.rdx, r.r10), None),
        268 => ("fchmodat", at(r.rdi, r.rsi), None),
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
