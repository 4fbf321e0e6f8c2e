//! Exceptions that a browser was made to forget.

use crate::exit::{self, Done};
use crate::words::human;
use tamga_app::report::Answer;
use tamga_app::trust::exceptions::{self, Plan};
use tamga_core::vocabulary::text::Shown;

pub(super) fn render(report: &Answer<exceptions::Done, Plan>) -> Done {
    match report {
        Answer::Planned(plan) => Done::report(format!("would {}\n", plan.steps.join("\nwould ")), report),
        Answer::Done(done) => Done::report(render_done(done), report).with_code(exit::of(done.outcome())),
    }
}

fn render_done(done: &exceptions::Done) -> String {
    let mut text = String::new();
    for e in &done.exceptions {
        let place = format!("{}:{}", e.host, e.port);
        if e.forgotten {
            text.push_str(&format!("{} the exception for {place} in {}\n", human::good("forgotten"), e.file.shown()));
        } else {
            text.push_str(&format!(
                "{} the exception for {place} in {}\n  {}  in the browser, at https://{place}: Not secure beside the address, then Turn on warnings\n",
                human::bad("kept"),
                e.file.shown(),
                human::dim("do:")
            ));
        }
    }
    if done.exceptions.iter().any(|e| e.forgotten) {
        text.push_str("a running Firefox still knows it, and writes it again: close it first\n");
    }
    text
}
