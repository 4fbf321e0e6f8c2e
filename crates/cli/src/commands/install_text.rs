//! A recipe carried out, in words.

use crate::words::human;
use tamga_app::recipe::install::{Change, Done, Plan, Removed};
use tamga_core::vocabulary::text::Shown;

/// What is to be done. `would`: before each step.
pub(super) fn plan(plan: &Plan, would: &str) -> String {
    let image = plan.image.as_ref().map(|i| format!(", in {}", i.shown())).unwrap_or_default();
    let mut text = format!("{} for {}{image}\n", human::strong(plan.recipe.id), human::strong(&plan.issued.label));
    if plan.is_done() {
        text.push_str("everything stands already\n");
    }
    for change in &plan.steps {
        text.push_str(&format!("{}\n", step(change, would)));
    }
    if plan.image.is_none() && !plan.is_done() {
        text.push_str(&format!("  {would}check {}\n", plan.tasks.target));
    }
    text
}

fn step(change: &Change, would: &str) -> String {
    let path = change.path.as_deref().unwrap_or_default();
    match (change.action, &change.content, &change.command) {
        ("append", Some(lines), _) => match lines.trim_end().lines().collect::<Vec<_>>().as_slice() {
            [one] => format!("  {would}add to {path}: {one}"),
            several => format!("  {would}add {} lines to {path}", several.len()),
        },
        (_, _, Some(words)) => format!("  {would}run   {}", words.join(" ")),
        _ => {
            let owner = change.owner.as_ref().map(|o| format!(", for {o}")).unwrap_or_default();
            format!("  {would}write {path} ({}{owner})", change.mode.as_deref().unwrap_or_default())
        }
    }
}

/// What was done.
pub(super) fn done(done: &Done) -> String {
    let mut text = match (&done.target, done.changed) {
        (None, true) => format!("{} {} for {}\n", human::good("written"), done.server, human::strong(&done.label)),
        (None, false) => "everything stands already\n".to_owned(),
        (Some(target), changed) => {
            let before = if changed { "" } else { ", as before: nothing was changed" };
            format!("{}  {target} shows the certificate{before}\n", human::good("done"))
        }
    };
    if let Some(image) = &done.image {
        text.push_str(&format!(
            "{}    {}; the server there reads it when it starts\n",
            human::dim("in"),
            image.shown()
        ));
    }
    match (&done.target, done.warn.as_slice(), &done.untrusted) {
        (Some(_), [], _) => text.push_str(&format!("{}  no client warns\n", human::good("good"))),
        (Some(target), warn, Some(root)) => text.push_str(&format!(
            "{}  {} clients do not trust the root yet: tamga trust add {root}\n      then tamga check {target} shows how each takes it\n",
            human::care("care"),
            warn.len()
        )),
        (Some(_), warn, None) => {
            text.push_str(&format!("{}  {} would still warn\n", human::care("care"), warn.join(", ")));
            text.push_str(&human::findings(&done.findings));
        }
        (None, ..) => {}
    }
    if done.changed && !done.by_hand.is_empty() {
        text.push_str(&format!("\n{}\n", human::strong("left to you")));
    }
    for work in done.by_hand.iter().filter(|_| done.changed) {
        text.push_str(&format!("  {}\n", work.what));
        for line in &work.lines {
            text.push_str(&format!("      {line}\n"));
        }
    }
    let (server, label) = (done.server, &done.label);
    text.push_str(&format!("next  after a renewal (tamga renew {label}) run the same command again\n"));
    if done.image.is_none() {
        text.push_str(&format!(
            "      tamga recipe {server} {label} --uninstall takes it away; tamga leave does too\n"
        ));
    }
    text
}

/// What was taken away.
pub(super) fn removed(removed: &Removed) -> String {
    let mut text = String::new();
    for path in &removed.removed {
        text.push_str(&format!("removed  {path}\n"));
    }
    for command in &removed.commands {
        text.push_str(&format!("run      {command}\n"));
    }
    for kept in &removed.kept {
        text.push_str(&format!("kept     {kept}\n"));
    }
    for remains in &removed.remains {
        text.push_str(&format!("{}  {remains}\n", human::care("remains")));
    }
    if text.is_empty() {
        text.push_str("nothing of it was there any more\n");
    }
    text
}
