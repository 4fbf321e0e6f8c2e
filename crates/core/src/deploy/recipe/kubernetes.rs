//! Kubernetes: a secret, and the ingress that shows it.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};

pub(super) const RECIPE: Recipe = Recipe {
    id: "kubernetes",
    also: &["ingress", "k8s"],
    title: "Kubernetes: a secret and an ingress that shows it",
    facts: Facts {
        owner: "",
        passphrase: "not possible: the secret holds the key as it is; its readers are those of the namespace's secrets",
        ..WEB
    },
    config: Config {
        path: "{label}-ingress.yaml",
        place: Placement::Yours("for kubectl apply"),
        quote: Quote::Word,
        text: r#"apiVersion: networking.k8s.io/v1
kind: Ingress
metadata:
  name: {label}
spec:
  tls:
    # Hosts are names: an ingress has no addresses.
    - hosts: ["{first}"]
      secretName: {label}-tls
  rules:
    - host: "{first}"
      http:
        paths:
          - path: /
            pathType: Prefix
            backend:
              service:
                name: {label}
                port:
                  number: 80
"#,
    },
    steps: &[
        by_hand(
            "the secret, in the ingress' namespace; the same line replaces it after a renewal",
            "kubectl create secret tls {label}-tls --cert={certificate} --key={key} --dry-run=client -o yaml | kubectl apply -f -",
        ),
        look(
            "what the ingress shows instead, if it finds no secret, is its own certificate",
            "kubectl describe ingress {label}",
        ),
    ],
    unit: "",
    check: "kubectl apply --dry-run=server -f {label}-ingress.yaml",
    start: "kubectl apply -f {label}-ingress.yaml",
    reload: "kubectl create secret tls {label}-tls --cert={certificate} --key={key} --dry-run=client -o yaml | kubectl apply -f -",
    notices: false,
    proof: ("kubectl get ingress {label}", "{label} … {first} … 80, 443"),
    faults: &[
        KnownError {
            text: "Error obtaining Endpoints … secret … was not found",
            code: None,
            why: "the secret is in another namespace than the ingress, or has another name",
            remedy: "kubectl get secret -A, then create it in the ingress' namespace",
        },
        KnownError {
            text: "tls: private key does not match public key",
            code: Some(crate::finding::Code::KeyMismatch),
            why: "kubectl refuses a pair that does not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
    ],
    tried: Tried::Form("the manifest was read by a YAML parser"),
};
