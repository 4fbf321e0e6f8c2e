//! What if a rule were not there, or a switch stood the other way: the cells that would then be wrong.

use super::run::{Matrix, predicted};
use tamga_core::check::client::{Client, LeafAnchor, Policies, Policy, agrees, policy, rules};

/// A change to a client's rules.
type Change = fn(&mut Policy);

/// Every switch of a policy, turned.
pub const SWITCHES: &[(&str, Change)] = &[
    ("labels after a star", |p| p.matching.labels_after_star = 3 - p.matching.labels_after_star),
    ("trailing dot", |p| p.matching.trailing_dot ^= true),
    ("common name", |p| p.matching.common_name ^= true),
    ("common name for an address", |p| {
        p.matching.common_name = true;
        p.matching.common_name_for_address ^= true;
    }),
    ("by identifier", |p| p.by_identifier ^= true),
    ("wrong key is unknown", |p| p.wrong_key_is_unknown ^= true),
    ("leaf as anchor", |p| {
        p.leaf_anchor = match p.leaf_anchor {
            LeafAnchor::Taken => LeafAnchor::TakenUnlessNoCa,
            _ => LeafAnchor::Taken,
        }
    }),
    ("anchor's dates", |p| p.anchor_dates ^= true),
    ("anchor's constraints", |p| p.anchor_constraints ^= true),
    ("anchor's path length", |p| p.anchor_path_length ^= true),
    ("anchor's critical extensions", |p| p.anchor_extensions ^= true),
    ("anchor must be a CA", |p| p.anchor_must_be_ca ^= true),
    ("purposes", |p| p.honors_purpose ^= true),
    ("purposes of authorities", |p| p.purposes_of_authorities ^= true),
    ("a purpose must be there", |p| p.needs_purpose ^= true),
    ("any purpose", |p| p.any_purpose ^= true),
    ("usage of authorities", |p| p.usage_of_authorities ^= true),
    ("usage of the leaf", |p| p.honors_leaf_usage ^= true),
    ("digitalSignature", |p| p.needs_digital_signature ^= true),
    ("underscore", |p| p.refuses_underscore ^= true),
    ("address families apart", |p| p.families_apart ^= true),
    ("weak hash", |p| p.refuses_weak_hash ^= true),
    ("weak key", |p| p.least_rsa = if p.least_rsa > 1024 { 0 } else { 2048 }),
    ("weak key above", |p| p.least_rsa_above = if p.least_rsa_above > 1024 { 0 } else { 2048 }),
    ("p521", |p| p.takes_p521 ^= true),
    ("ed25519", |p| p.takes_ed25519 ^= true),
    ("CA as leaf", |p| p.takes_ca_as_leaf ^= true),
    ("empty subject", |p| p.empty_subject_needs_critical_names ^= true),
    ("partial chain", |p| p.partial_chain ^= true),
    ("broken extensions", |p| p.refuses_broken ^= true),
    ("policies", |p| {
        p.policies = match p.policies {
            Policies::Ignored => Policies::Honored,
            _ => Policies::Ignored,
        }
    }),
    ("longest life", |p| p.most_days = if p.most_days.is_some() { None } else { Some(825) }),
];

/// Rules that no client of the matrix has, and that are tried elsewhere: revocation lists, and the limits of Safari.
pub const ELSEWHERE: usize = 2;

/// True if a cell is wrong with this policy in the place of a client's own.
fn is_noticed(matrix: &Matrix, client: Client, with: &Policy) -> bool {
    let Some(column) = matrix.clients.iter().position(|c| *c == client) else { return false };
    // From the end: the rarer kinds stand there.
    matrix.kinds.iter().zip(&matrix.cells).rev().any(|(kind, row)| {
        let said = predicted(with, client, kind, &matrix.views[column], matrix.at);
        let seen = &row[column].observed;
        said.0 != seen.0 || !agrees(said.1.as_deref(), seen.1.as_deref())
    })
}

/// What holds the rules in place.
pub struct Held {
    /// Each switch, with the clients for which turning it would be noticed.
    pub switches: Vec<(&'static str, Vec<Client>)>,
    /// For each rule, how many clients would be wrong without it.
    pub rules: Vec<usize>,
}

/// Turns every switch and leaves out every rule.
pub fn held(matrix: &Matrix) -> Held {
    // A thread for each client: a thousand judgements each.
    let of = |client: Client| (switches(matrix, client), rules(matrix, client));
    let all: Vec<(Vec<bool>, Vec<bool>)> = std::thread::scope(|s| {
        let running: Vec<_> = matrix.clients.iter().map(|c| s.spawn(|| of(*c))).collect();
        running.into_iter().map(|t| t.join().unwrap()).collect()
    });
    let who = |i: usize| matrix.clients.iter().zip(&all).filter(|(_, h)| h.0[i]).map(|(c, _)| *c).collect();
    Held {
        switches: SWITCHES.iter().enumerate().map(|(i, (word, _))| (*word, who(i))).collect(),
        rules: (0..rules::ALL.len()).map(|i| all.iter().filter(|h| h.1[i]).count()).collect(),
    }
}

/// For each switch, whether turning it would be noticed.
fn switches(matrix: &Matrix, client: Client) -> Vec<bool> {
    let noticed = |(_, change): &(&str, Change)| {
        let mut turned = *policy(client);
        change(&mut turned);
        is_noticed(matrix, client, &turned)
    };
    SWITCHES.iter().map(noticed).collect()
}

/// For each rule, by its place, whether leaving it out would be noticed.
fn rules(matrix: &Matrix, client: Client) -> Vec<bool> {
    let without = |i: usize| -> &'static [rules::Rule] {
        let kept = rules::ALL.iter().enumerate().filter(|(n, _)| *n != i).map(|(_, r)| *r);
        Box::leak(kept.collect::<Vec<_>>().into_boxed_slice())
    };
    let noticed = |i| is_noticed(matrix, client, &Policy { rules: without(i), ..*policy(client) });
    (0..rules::ALL.len()).map(noticed).collect()
}
