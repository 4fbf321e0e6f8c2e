//! A timer for renewals: as it is printed, put in place against stand-ins of the schedulers, and taken away.

use crate::lab;
use std::path::PathBuf;
use tamga_testkit::sandbox::Sandbox;

/// A stand-in that notes how it was called.
fn noting(s: &mut Sandbox, name: &str, body: &str) -> PathBuf {
    let calls = s.path(&format!("calls-{name}"));
    s.stand_in(name, &format!("#!/bin/sh\necho \"$@\" >> {}\n{body}\n", calls.display()));
    calls
}

/// A crontab that is a file.
fn crontab(s: &mut Sandbox) -> PathBuf {
    let table = s.path("table");
    let body = format!(
        "case \"$1\" in -l) cat {t} 2>/dev/null || {{ echo 'no crontab for operator' >&2; exit 1; }} ;; -r) rm {t} ;; -) cat > {t} ;; *) exit 64 ;; esac",
        t = table.display()
    );
    noting(s, "crontab", &body);
    table
}

#[test]
fn each_kind_is_printed_whole() {
    let s = lab();
    let data = s.path("data").display().to_string();
    for (kind, words) in [
        ("systemd", &["[Timer]", "OnCalendar=daily", "tamga-renew.timer", "renew --quiet"][..]),
        ("cron", &["17 4 * * *", "renew --quiet"]),
        ("launchd", &["<key>ProgramArguments</key>", "<string>renew</string>"]),
        ("windows-task", &["<Command>", "DaysInterval"]),
    ] {
        let text = s.run(&["schedule", kind]).expect(0).out;
        for word in words.iter().chain(&[data.as_str()]) {
            assert!(text.contains(word), "{kind}: {word}: {text}");
        }
        if text.contains("<?xml") {
            let start = text.find("<?xml").unwrap();
            assert!(text[start..].matches("<string>").count() == text[start..].matches("</string>").count());
        }
    }
    s.run(&["schedule", "sundial"]).expect(2);
    s.run(&["schedule", "--install"]).expect(2);
    assert!(s.run(&["schedule"]).expect(0).out.contains("windows-task"));
}

#[test]
fn systemds_timer_is_put_in_place_once_and_goes_with_leave() {
    let mut s = lab();
    let calls = noting(&mut s, "systemctl", "");
    let folder = s.path("home/.config/systemd/user");
    s.run(&["schedule", "systemd", "--install", "--dry-run"]).expect(0);
    assert!(!folder.exists() && !calls.exists());
    s.run(&["schedule", "systemd", "--install"]).expect(0);
    assert!(folder.join("tamga-renew.timer").exists() && folder.join("tamga-renew.service").exists());
    // What only asks is no change.
    let changing = || -> String {
        let all = std::fs::read_to_string(&calls).unwrap();
        all.lines().filter(|l| !l.contains("is-enabled")).map(|l| format!("{l}\n")).collect()
    };
    let said = changing();
    assert_eq!(said, "--user daemon-reload\n--user enable --now tamga-renew.timer\n");
    assert!(s.run(&["schedule", "systemd", "--install"]).expect(0).out.contains("already"));
    assert_eq!(changing(), said, "twice changes nothing");
    assert!(s.run(&["schedule"]).expect(0).out.contains("installed"));
    assert!(s.run(&["leave", "--yes"]).expect(0).out.contains("removed the timer of systemd"));
    assert_eq!(std::fs::read_dir(&folder).unwrap().count(), 0);
    assert!(changing().ends_with("--user disable --now tamga-renew.timer\n--user daemon-reload\n"));
}

#[test]
fn a_scheduler_that_fails_leaves_no_file_behind() {
    let mut s = lab();
    noting(&mut s, "systemctl", "case \"$*\" in *enable*) echo 'Failed to connect to bus' >&2; exit 1 ;; esac");
    let ran = s.run(&["schedule", "systemd", "--install"]).expect(4);
    assert!(ran.err.contains("Failed to connect to bus"), "{}", ran.err);
    assert_eq!(std::fs::read_dir(s.path("home/.config/systemd/user")).unwrap().count(), 0);
}

#[test]
fn a_persons_crontab_keeps_every_line_of_its_own() {
    let mut s = lab();
    let table = crontab(&mut s);
    let own = "# the tide table\n5 * * * * /usr/local/bin/tide --print \"a%b\"\n";
    std::fs::write(&table, own).unwrap();
    s.run(&["schedule", "cron", "--install"]).expect(0);
    let with = std::fs::read_to_string(&table).unwrap();
    assert!(with.starts_with(own) && with.contains("renew --quiet"), "{with}");
    s.run(&["schedule", "cron", "--install"]).expect(0);
    assert_eq!(std::fs::read_to_string(&table).unwrap(), with);
    s.run(&["leave", "--yes"]).expect(0);
    assert_eq!(std::fs::read_to_string(&table).unwrap(), own);
    // None before: none afterwards.
    std::fs::remove_file(&table).unwrap();
    s.run(&["schedule", "cron", "--install"]).expect(0);
    s.run(&["leave", "--yes"]).expect(0);
    assert!(!table.exists());
    // One that cannot be read is never taken for an empty one.
    s.stand_in("crontab", "#!/bin/sh\n[ \"$1\" = -l ] && { echo 'crontabs/operator: Permission denied' >&2; exit 1; }\ncat > \"$HOME/lost\"\n");
    let ran = s.run(&["schedule", "cron", "--install"]).expect(3);
    assert!(ran.err.contains("Permission denied") && !s.path("home/lost").exists(), "{}", ran.err);
}

#[test]
fn the_command_that_is_scheduled_renews_what_is_due() {
    let mut s = lab();
    let table = crontab(&mut s);
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let at = |days: i64| {
        tamga_core::vocabulary::timestamp::Timestamp::from_unix(i64::try_from(now).unwrap() + days * 86_400).to_string()
    };
    let aged =
        ["issue", "gauge-7.saltmarsh.test", "--label", "gauge", "--not-before", &at(-70), "--not-after", &at(20)];
    s.run(&aged).expect(0);
    let serial = || s.json(&["show", "gauge"]).json().to_string();
    let before = serial();
    s.run(&["schedule", "cron", "--install"]).expect(0);
    let line = std::fs::read_to_string(&table).unwrap();
    let command = line.lines().find_map(|l| l.strip_prefix("17 4 * * * ")).unwrap();
    let mut shell = s.around("sh");
    // As cron runs it: with hardly any environment.
    shell.args(["-c", &command.replace("\\%", "%")]).env_remove("TAMGA_DATA_DIR");
    let out = shell.output().unwrap();
    assert!(out.status.success() && out.stdout.is_empty(), "{out:?}");
    assert_ne!(serial(), before, "nothing was renewed");
    assert_eq!(s.run(&["renew"]).expect(0).out, "nothing is due\n");
}

#[test]
fn a_task_of_windows_is_there_only_if_its_scheduler_names_it() {
    let mut s = lab();
    let calls = noting(&mut s, "schtasks.exe", "");
    assert!(!s.run(&["schedule"]).expect(0).out.contains("installed"));
    s.run(&["leave", "--yes"]).expect(0);
    assert!(!std::fs::read_to_string(&calls).unwrap().contains("/Delete"));
    let mut s = lab();
    let file = s.path("task.xml");
    let body = format!(
        "for last; do :; done\ncase \"$1\" in /Create) cp \"$last\" {f} ;; /Query) [ -e {f} ] && echo 'TaskName: tamga-renew' ;; /Delete) rm {f} ;; esac",
        f = file.display()
    );
    noting(&mut s, "schtasks.exe", &body);
    s.run(&["schedule", "windows-task", "--install"]).expect(0);
    assert!(std::fs::read_to_string(&file).unwrap().contains("<Command>"));
    assert!(s.run(&["leave", "--yes"]).expect(0).out.contains("removed the timer of windows-task"));
    assert!(!file.exists());
}

#[test]
fn a_run_that_was_stopped_before_the_timer_was_switched_on_is_gone_on_with() {
    let mut s = lab();
    let on = s.path("on");
    let body = format!("case \"$*\" in *is-enabled*) [ -e {f} ] ;; *enable*) : > {f} ;; esac", f = on.display());
    noting(&mut s, "systemctl", &body);
    s.run(&["schedule", "systemd", "--install"]).expect(0);
    // As a kill before the last step leaves it: the files stand, and nothing starts them.
    std::fs::remove_file(&on).unwrap();
    assert!(!s.run(&["schedule", "systemd", "--install"]).expect(0).out.contains("already"));
    assert!(on.exists());
    assert!(s.run(&["schedule", "systemd", "--install"]).expect(0).out.contains("already"));
}
