//! The page that is served where nothing else is: which certificate this is.

use tamga_core::ca::report::Issued;

/// Opens the WebSocket of the same address and says what came of it.
const SCRIPT: &str = "const said=[...document.querySelectorAll('dd')].pop();said.textContent='…';\
const socket=new WebSocket('wss://'+location.host+'/');socket.onopen=()=>socket.send('tide');\
socket.onmessage=()=>{said.textContent='echoed over wss';socket.close()};\
socket.onerror=()=>{said.textContent='refused'};";

/// The page: which certificate this is, so that a person sees what they look at.
pub(crate) fn page(i: &Issued) -> String {
    let c = &i.certificate;
    let escape = |s: &str| s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let rows: String = [
        ("Names", c.name_words().join(", ")),
        ("Issued by", c.issuer_words()),
        ("Valid until", c.not_after.date()),
        ("SHA-256", c.sha256().to_string()),
        ("WebSocket", "not tried: this browser runs no scripts here".into()),
    ]
    .iter()
    .map(|(k, v)| format!("<dt>{k}</dt><dd>{}</dd>", escape(v)))
    .collect();
    format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
<title>{label}</title><style>:root{{color-scheme:light dark}}body{{font:16px/1.5 system-ui,sans-serif;max-width:44rem;\
margin:12vh auto;padding:0 1.5rem}}h1{{font-size:1.5rem}}dt{{font-weight:600;margin-top:.8rem}}dd{{margin:0;\
overflow-wrap:anywhere;font-family:ui-monospace,monospace;font-size:.9rem}}</style>\
<h1>{label} is served over HTTPS</h1><p>If you see this page without a warning, this browser trusts the root of its \
certificate.</p><dl>{rows}</dl><script>{SCRIPT}</script></html>\n",
        label = escape(&i.label)
    )
}
