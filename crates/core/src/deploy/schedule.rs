//! A timer that renews what is due, once a day: as each system's scheduler writes it, the steps that put it there and those that take it
//! away again. What it runs is `tamga renew`, which renews what has a third of its life left.

use crate::error::{Error, Result};
use crate::plan::ports::Commands;
use crate::plan::ports::Environment;
use crate::plan::ports::Look;
use crate::plan::step::{Invocation, Planned, Step};
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

crate::words! {
    /// A scheduler.
    pub enum Kind: "scheduler" {
        /// systemd's timers.
        Systemd = "systemd",
        /// The table of cron.
        Cron = "cron",
        /// macOS' launchd.
        Launchd = "launchd",
        /// Windows' task scheduler.
        WindowsTask = "windows-task",
    }
}

/// The name that all of it has.
const NAME: &str = "tamga-renew";
/// Around our line in a table that belongs to the person.
const BEGIN: &str = "# tamga: begin";
const END: &str = "# tamga: end";

/// What is run.
#[derive(Clone, Debug)]
pub struct Job {
    /// The program.
    pub program: PathBuf,
    /// The data directory.
    pub data: PathBuf,
    /// True for the system's own scheduler, not the person's.
    pub machine: bool,
    /// The file with the passphrase of the authority's key, absolute; None if no key is encrypted.
    pub passphrase_file: Option<PathBuf>,
}

impl Job {
    /// The words after the program.
    fn words(&self) -> Vec<String> {
        let mut out: Vec<String> = ["renew", "--quiet", "--data-dir"].map(str::to_owned).to_vec();
        out.push(self.data.shown());
        if let Some(file) = &self.passphrase_file {
            out.extend(["--passphrase-file".to_owned(), file.shown()]);
        }
        out
    }
}

/// A file of a scheduler.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// Where it belongs; None for what is no file of its own.
    pub place: Option<PathBuf>,
    /// Its text.
    pub text: String,
}

impl Kind {
    /// What it writes, in a few words.
    pub fn title(self) -> &'static str {
        match self {
            Kind::Systemd => "a timer and a service",
            Kind::Cron => "a line of the crontab",
            Kind::Launchd => "an agent of macOS",
            Kind::WindowsTask => "a task of Windows, as XML",
        }
    }

    /// The program that installs it.
    pub fn program(self) -> &'static str {
        match self {
            Kind::Systemd => "systemctl",
            Kind::Cron => "crontab",
            Kind::Launchd => "launchctl",
            Kind::WindowsTask => "schtasks.exe",
        }
    }
}

/// Everything that belongs to a schedule, ready to be read or put in place by hand.
pub fn parts(kind: Kind, job: &Job, look: &dyn Look) -> Vec<Part> {
    let (program, data) = (job.program.shown(), job.data.shown());
    match kind {
        Kind::Systemd => {
            // systemd.service(5): % begins a specifier, \ and " mean something within quotes.
            let q = |s: &str| format!("\"{}\"", s.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%"));
            let folder = units(job, look);
            // systemd reads the file as root and gives the service a copy that only it can read (systemd.exec(5), Credentials).
            let (credential, option) = match &job.passphrase_file {
                Some(file) => (
                    format!(
                        "# For a passphrase that is encrypted on disk too: systemd-creds encrypt, and LoadCredentialEncrypted= here.\n\
                         LoadCredential=passphrase:{}\n",
                        file.shown().replace('%', "%%")
                    ),
                    " --passphrase-file \"%d/passphrase\"",
                ),
                None => (String::new(), ""),
            };
            let service = format!(
                "[Unit]\nDescription=Renew the certificates of Tamga that are due\n\n[Service]\nType=oneshot\n{credential}ExecStart={} renew --quiet --data-dir {}{option}\n",
                q(&program),
                q(&data)
            );
            let timer = "[Unit]\nDescription=Look once a day for certificates of Tamga that are due\n\n[Timer]\nOnCalendar=daily\n\
                         RandomizedDelaySec=1h\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n";
            vec![
                Part { place: Some(folder.join(format!("{NAME}.service"))), text: service },
                Part { place: Some(folder.join(format!("{NAME}.timer"))), text: timer.to_owned() },
            ]
        }
        Kind::Cron => vec![Part { place: None, text: line(job) }],
        Kind::Launchd => {
            let x = |s: &str| s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            let words = std::iter::once(program).chain(job.words());
            let words: String = words.map(|w| format!("    <string>{}</string>\n", x(&w))).collect();
            let text = format!(
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \
                 \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\"><dict>\n  <key>Label</key><string>{NAME}</string>\n  \
                 <key>ProgramArguments</key><array>\n{words}  </array>\n  <key>StartCalendarInterval</key><dict><key>Hour</key><integer>4</integer>\
                 <key>Minute</key><integer>17</integer></dict>\n</dict></plist>\n"
            );
            vec![Part { place: Some(look.home().join(format!("Library/LaunchAgents/{NAME}.plist"))), text }]
        }
        Kind::WindowsTask => {
            let x = |s: &str| s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            let text = format!(
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Task version=\"1.2\" xmlns=\"http://schemas.microsoft.com/windows/2004/02/mit/task\">\n  \
                 <RegistrationInfo><Description>Renew the certificates of Tamga that are due</Description></RegistrationInfo>\n  \
                 <Triggers><CalendarTrigger><StartBoundary>2026-01-01T04:17:00</StartBoundary><ScheduleByDay><DaysInterval>1</DaysInterval>\
                 </ScheduleByDay></CalendarTrigger></Triggers>\n  <Settings><StartWhenAvailable>true</StartWhenAvailable></Settings>\n  \
                 <Actions><Exec><Command>{}</Command><Arguments>renew --quiet --data-dir \"{}\"{}</Arguments></Exec></Actions>\n</Task>\n",
                x(&program),
                x(&data),
                job.passphrase_file
                    .as_ref()
                    .map(|f| format!(" --passphrase-file \"{}\"", x(&f.shown())))
                    .unwrap_or_default()
            );
            vec![Part { place: None, text }]
        }
    }
}

fn units(job: &Job, look: &dyn Environment) -> PathBuf {
    if job.machine {
        return "/etc/systemd/system".into();
    }
    look.env("XDG_CONFIG_HOME").map_or_else(|| look.home().join(".config"), PathBuf::from).join("systemd/user")
}

/// crontab(5): the rest of the line goes to a shell, and % means a new line there.
fn line(job: &Job) -> String {
    let q = |s: &Path| format!("'{}'", s.shown().replace('\'', "'\\''").replace('%', "\\%"));
    let passphrase = job.passphrase_file.as_ref().map(|f| format!(" --passphrase-file {}", q(f))).unwrap_or_default();
    format!("{BEGIN}\n17 4 * * * {} renew --quiet --data-dir {}{passphrase}\n{END}\n", q(&job.program), q(&job.data))
}

/// The table without our block.
fn without_block(table: &str) -> String {
    let (mut out, mut inside) = (String::new(), false);
    for line in table.split_inclusive('\n') {
        match line.trim_end() {
            BEGIN => inside = true,
            END if inside => inside = false,
            _ if !inside => out.push_str(line),
            _ => {}
        }
    }
    out
}

/// The person's table. An unreadable one must never be taken for an empty one: writing would then lose it.
fn table(look: &dyn Commands) -> Result<String> {
    let failed = |why: String| Error::Malformed { what: "the crontab".into(), why };
    match look.ask(&Invocation::new("crontab", ["-l"]), false) {
        None => Ok(String::new()),
        Some(Ok(bytes)) => String::from_utf8(bytes).map_err(|_| failed("it is not UTF-8".into())),
        Some(Err(why)) if why.contains("no crontab") => Ok(String::new()),
        Some(Err(why)) => Err(failed(why)),
    }
}

fn put_table(text: String) -> Step {
    Step::Run(Invocation::new("crontab", ["-"]).reading(text))
}

/// True if a schedule of ours is there.
pub fn is_there(kind: Kind, job: &Job, look: &dyn Look) -> bool {
    match kind {
        Kind::Cron => table(look).is_ok_and(|t| t.lines().any(|l| l.trim_end() == BEGIN)),
        Kind::WindowsTask => {
            // Its answer must name it: a program that says yes to everything proves nothing.
            let query = Invocation::new("schtasks.exe", ["/Query", "/TN", NAME, "/FO", "LIST"]);
            look.ask(&query, false)
                .is_some_and(|answer| answer.is_ok_and(|b| String::from_utf8_lossy(&b).contains(NAME)))
        }
        _ => parts(kind, job, look).iter().filter_map(|p| p.place.as_ref()).any(|p| look.exists(p)),
    }
}

/// True if its scheduler knows it and will start it.
fn is_switched_on(kind: Kind, job: &Job, look: &dyn Commands) -> bool {
    let timer = format!("{NAME}.timer");
    let ask = match (kind, job.machine) {
        (Kind::Systemd, true) => Invocation::new("systemctl", ["is-enabled", &timer]),
        (Kind::Systemd, false) => Invocation::new("systemctl", ["--user", "is-enabled", &timer]),
        _ => Invocation::new("launchctl", ["list", NAME]),
    };
    look.ask(&ask, false).is_some_and(|answer| answer.is_ok())
}

/// The steps that put it there; none if it stands there already just so.
///
/// Errors: the person's crontab cannot be read.
pub fn install(kind: Kind, job: &Job, look: &dyn Look) -> Result<Vec<Planned>> {
    let parts = parts(kind, job, look);
    match kind {
        Kind::Cron => {
            let before = table(look)?;
            let mut after = without_block(&before);
            if !after.is_empty() && !after.ends_with('\n') {
                after.push('\n');
            }
            after.push_str(&line(job));
            if after == before {
                return Ok(Vec::new());
            }
            Ok(vec![Planned { step: put_table(after), undo: vec![put_table(before)] }])
        }
        Kind::WindowsTask => {
            let text: String = parts.into_iter().map(|p| p.text).collect();
            let create = Invocation::new("schtasks.exe", ["/Create", "/TN", NAME, "/F", "/XML"]).with_file(text);
            Ok(vec![Planned::plain(Step::Run(create))])
        }
        Kind::Systemd | Kind::Launchd => {
            let same = |p: &Part| p.place.as_ref().is_some_and(|f| look.read(f).as_deref() == Some(p.text.as_bytes()));
            // Files alone start nothing: a run that was stopped before the last step is gone on with.
            if parts.iter().all(same) && is_switched_on(kind, job, look) {
                return Ok(Vec::new());
            }
            let mut steps = Vec::new();
            for p in &parts {
                let Some(path) = p.place.clone() else { continue };
                if let Some(folder) = path.parent() {
                    steps.push(Planned::plain(Step::Folder { path: folder.to_owned(), mode: 0o755 }));
                }
                let undo = vec![match look.read(&path) {
                    Some(bytes) => Step::Write { path: path.clone(), bytes, mode: 0o644 },
                    None => Step::Remove { path: path.clone() },
                }];
                steps.push(Planned {
                    step: Step::Write { path, bytes: p.text.clone().into_bytes(), mode: 0o644 },
                    undo,
                });
            }
            steps.extend(switched(kind, job, &parts, true).into_iter().map(|s| Planned::plain(Step::Run(s))));
            Ok(steps)
        }
    }
}

/// The steps that take it away.
pub fn remove(kind: Kind, job: &Job, look: &dyn Look) -> Vec<Planned> {
    if !is_there(kind, job, look) {
        return Vec::new();
    }
    let parts = parts(kind, job, look);
    match kind {
        Kind::Cron => {
            let left = without_block(&table(look).unwrap_or_default());
            let step = if left.is_empty() { Step::Run(Invocation::new("crontab", ["-r"])) } else { put_table(left) };
            vec![Planned::plain(step)]
        }
        Kind::WindowsTask => {
            vec![Planned::plain(Step::Run(Invocation::new("schtasks.exe", ["/Delete", "/TN", NAME, "/F"])))]
        }
        Kind::Systemd | Kind::Launchd => {
            let off = switched(kind, job, &parts, false);
            // Switched off first, while its scheduler still finds the file.
            let mut steps: Vec<Planned> = off.iter().take(1).map(|s| Planned::plain(Step::Run(s.clone()))).collect();
            steps.extend(parts.into_iter().filter_map(|p| p.place).map(|path| Planned::plain(Step::Remove { path })));
            steps.extend(off.into_iter().skip(1).map(|s| Planned::plain(Step::Run(s))));
            steps
        }
    }
}

/// What tells the scheduler: on or off.
fn switched(kind: Kind, job: &Job, parts: &[Part], on: bool) -> Vec<Invocation> {
    match kind {
        Kind::Systemd => {
            let whose: &[&str] = if job.machine { &[] } else { &["--user"] };
            let timer = format!("{NAME}.timer");
            let call = |words: &[&str]| {
                let words = whose.iter().chain(words).map(|w| (*w).to_owned());
                let call = Invocation::new("systemctl", words);
                if job.machine { call.with_rights() } else { call }
            };
            let reload = call(&["daemon-reload"]);
            if on {
                vec![reload, call(&["enable", "--now", &timer])]
            } else {
                vec![call(&["disable", "--now", &timer]), reload]
            }
        }
        Kind::Launchd => {
            let file = parts.iter().find_map(|p| p.place.as_ref()).map(|p| p.shown()).unwrap_or_default();
            vec![Invocation::new("launchctl", [if on { "load" } else { "unload" }.to_owned(), "-w".to_owned(), file])]
        }
        Kind::Cron | Kind::WindowsTask => Vec::new(),
    }
}
