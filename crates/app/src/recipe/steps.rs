//! A recipe's steps, each by itself, for a program that carries them out.

use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::deploy::recipe::{PlacedContent, Placement, Written};
use tamga_core::vocabulary::text::Shown;

/// One step.
#[derive(Serialize, JsonSchema)]
pub(super) struct StepView {
    /// `write` a whole file, `merge` text into one, `export` the certificate in the form that `content` names, `run` a command, `restart`
    /// or `reload` the server by a command, `expect` lines in a log.
    action: &'static str,
    /// The file, or where the lines of `expect` are seen.
    path: Option<String>,
    /// The text of a file, the form, the command, the lines; none for a copy of `from`.
    content: Option<String>,
    /// `first`, `renewal`, `both`.
    when: &'static str,
    /// The file of which this is a copy.
    from: Option<String>,
    /// The account whose file it becomes; none for the account that writes it.
    owner: Option<String>,
    /// Its permission bits, in octal digits.
    mode: Option<String>,
}

impl StepView {
    fn of(action: &'static str, when: &'static str) -> StepView {
        StepView { action, path: None, content: None, when, from: None, owner: None, mode: None }
    }

    fn command(line: &str, when: &'static str) -> StepView {
        let action = match line {
            l if l.contains(" restart ") => "restart",
            l if l.contains("reload") || l.contains("graceful") || l.contains("-HUP") => "reload",
            _ => "run",
        };
        StepView { content: Some(line.to_owned()), ..StepView::of(action, when) }
    }
}

/// The steps of a recipe that a machine can do, in order. What a person decides is not among them.
pub(super) fn steps(w: &Written) -> Vec<StepView> {
    let tasks = &w.tasks;
    let mut out = Vec::new();
    for placed in &tasks.placed {
        let (action, content, from) = match &placed.content {
            PlacedContent::Copy(from) => ("write", None, Some(from.shown())),
            PlacedContent::Form(form) => ("export", Some(form.word().to_owned()), None),
        };
        out.push(StepView {
            path: Some(placed.path.shown()),
            content,
            from,
            owner: Some(placed.owner.clone()).filter(|o| !o.is_empty()),
            mode: Some(format!("{:04o}", placed.mode)),
            ..StepView::of(action, "both")
        });
    }
    let action = match w.recipe.config.place {
        Placement::Whole | Placement::Yours(_) => "write",
        Placement::AtEnd | Placement::Within(_) => "merge",
    };
    let text = |path: String, content: &str, action| StepView {
        path: Some(path),
        content: Some(content.to_owned()),
        ..StepView::of(action, "first")
    };
    out.push(text(w.path.clone(), &w.config, action));
    out.extend(tasks.appended.iter().map(|(path, lines)| text(path.shown(), lines, "merge")));
    let real = |l: &&String| !l.starts_with('#');
    let commands =
        |lines: &[String], when| lines.iter().filter(real).map(|l| StepView::command(l, when)).collect::<Vec<_>>();
    out.extend(commands(&tasks.programs, "first"));
    out.extend(commands(&tasks.check, "both"));
    out.extend(commands(&tasks.pair, "both"));
    match tasks.start.is_empty() {
        true => out.extend(commands(&tasks.reload, "both")),
        false => {
            out.extend(commands(&tasks.start, "first"));
            out.extend(commands(&tasks.reload, "renewal"));
        }
    }
    let (path, lines) = &tasks.expect;
    out.push(StepView { path: Some(path.clone()), content: Some(lines.clone()), ..StepView::of("expect", "both") });
    out
}
