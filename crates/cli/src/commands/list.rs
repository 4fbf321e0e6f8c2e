//! `tamga list`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::{Value, json};
use tamga_core::report::Standing;

#[derive(clap::Args)]
pub(crate) struct ListArgs {}

pub(crate) fn run(session: &Session, _: &ListArgs) -> Result<Done> {
    let all = match session.open_to_look()? {
        Some(ledger) => ledger.issued(None)?,
        None => Vec::new(),
    };
    if all.is_empty() {
        return Ok(Done::good(
            "nothing issued yet: tamga issue NAME, or everything at once: tamga setup\n".into(),
            json!({"certificates": []}),
        ));
    }
    let mut rows = vec![["label", "state", "ends", "days", "under", "names"].map(human::dim).to_vec()];
    for i in &all {
        let standing = i.standing(session.now);
        let state = match standing {
            Standing::Valid => human::good(standing.word()),
            Standing::EndsSoon => human::care(standing.word()),
            Standing::Expired => human::bad(standing.word()),
            Standing::Superseded | Standing::Abandoned => human::dim(standing.word()),
        };
        rows.push(vec![
            human::strong(&i.label),
            state,
            i.certificate.not_after.date(),
            i.certificate.not_after.days_after(session.now).to_string(),
            i.authority.clone().unwrap_or_else(|| "itself".into()),
            tamga_core::text::cut(&i.certificate.name_words().join(", "), 60),
        ]);
    }
    let members: Vec<Value> = all.iter().map(|i| json::listed(i, session.now)).collect();
    Ok(Done::good(human::table(&rows), json!({"certificates": members})))
}
