//! Authorities as the file says: made, and their limits widened.

use super::{Change, Run, What};
use crate::authority::{create, permit};
use crate::failure::Result;
use crate::secret::AuthoritySecret;
use crate::token::TokenRequest;
use tamga_core::ca::authority::create::Request;
use tamga_core::ca::authority::limits;
use tamga_core::ca::report::Authority;
use tamga_core::deploy::lab::file::Authority as Wanted;
use tamga_core::deploy::lab::{Limits, compare_limits, key_elsewhere};
use tamga_core::vocabulary::purpose::Purpose;

impl Run<'_> {
    pub(super) fn authorities(&mut self) -> Result<()> {
        for wanted in self.lab.authorities.clone() {
            if !self.is_meant(wanted.label.as_str()) {
                continue;
            }
            // Read each time: one of the file may be under one that was just made.
            let known = self.env.authorities()?;
            match known.iter().find(|a| a.label == wanted.label.as_str()) {
                None => self.make(&wanted)?,
                Some(a) => self.adjust(&wanted, a, &known),
            }
        }
        Ok(())
    }

    /// Nothing below it can be made without it: a failure ends the run.
    fn make(&mut self, wanted: &Wanted) -> Result<()> {
        if !self.env.dry_run {
            let usual = || vec![Purpose::Server, Purpose::Client];
            let request = create::Request {
                authority: Request {
                    wanted: limits::Wanted { permit: wanted.permit.clone(), any: false },
                    valid_for: wanted.valid_for,
                    purposes: if wanted.purposes.is_empty() { usual() } else { wanted.purposes.clone() },
                    ..Request::plain(wanted.label.clone())
                },
                issuer: wanted.issuer.clone(),
                key_algorithm: wanted.key_algorithm,
                token: wanted.key_uri.clone().map(|uri| TokenRequest {
                    uri,
                    module: None,
                    pin: self.request.secret.clone(),
                }),
                secret: self.request.secret.clone(),
                new_secret: AuthoritySecret::default(),
            };
            create::create(self.env, &request)?;
        }
        self.row(What::Authority, wanted.label.as_str(), Change::Made, "there was none");
        Ok(())
    }

    fn adjust(&mut self, wanted: &Wanted, current: &Authority, known: &[Authority]) {
        let label = &wanted.label;
        if let Some(why) = key_elsewhere(wanted, current) {
            self.lacking(
                What::Authority,
                label,
                why,
                Some(format!("a key does not move: tamga authority create {label}-2 --key-uri URI --module FILE, or take key_uri out of the file")),
            );
        }
        let parent = known.iter().find(|p| Some(&p.label) == current.issuer.as_ref());
        match compare_limits(wanted, current, parent) {
            None => {}
            Some(Limits::Narrower(more)) => self.lacking(
                What::Authority,
                label,
                format!("it may certify {more}, which the file does not list"),
                Some(format!(
                    "add it to permit in the file; limits cannot be removed: a narrower root is a new one, tamga authority create {label}-2"
                )),
            ),
            Some(Limits::Wider(names)) => {
                let why = format!("the file permits {}", names.join(", "));
                if self.env.dry_run {
                    return self.row(What::Authority, label, Change::Permitted, why);
                }
                // Bundles of the file that have the root get the wider one too.
                let bundles = self.lab.trust.iter().filter(|t| t.root.as_str() == current.root_label);
                let bundles = bundles.flat_map(|t| t.bundles.clone()).collect();
                let secret = self.request.secret.clone();
                let request = permit::Request { label: label.clone(), names, bundles, secret };
                match permit::permit(self.env, &request) {
                    Ok(_) => self.row(What::Authority, label, Change::Permitted, why),
                    Err(e) => self.failed(What::Authority, label, &e),
                }
            }
        }
    }
}
