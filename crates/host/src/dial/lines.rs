//! Protocols of lines, and XMPP: the command that goes over to TLS.

use super::answer::{Answer, other, without_tls};
use std::io::{BufRead, BufReader, ErrorKind, Read, Write};

/// No server's greeting is longer.
const MOST: u64 = 64 * 1024;

/// The lines of one answer, up to the one in which the number is followed by a blank.
fn reply(from: &mut impl BufRead) -> std::io::Result<Vec<String>> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if from.by_ref().take(MOST).read_line(&mut line)? == 0 || lines.len() > 100 {
            return Err(ErrorKind::UnexpectedEof.into());
        }
        let last = line.as_bytes().get(3) != Some(&b'-');
        lines.push(line.trim_end().to_owned());
        if last {
            return Ok(lines);
        }
    }
}

pub(super) fn smtp(socket: &mut (impl Read + Write)) -> Answer {
    // What comes after the answer to STARTTLS belongs to TLS; a server that sends it early is cut off here.
    let mut from = BufReader::new(socket);
    if !reply(&mut from)?.iter().all(|l| l.starts_with("220")) {
        return Ok(Some(other("its greeting is not SMTP's")));
    }
    from.get_mut().write_all(b"EHLO localhost\r\n")?;
    let able = reply(&mut from)?;
    if !able.iter().any(|l| l.get(4..).is_some_and(|w| w.trim().eq_ignore_ascii_case("STARTTLS"))) {
        return Ok(Some(without_tls("it does not offer STARTTLS")));
    }
    from.get_mut().write_all(b"STARTTLS\r\n")?;
    let answer = reply(&mut from)?;
    Ok(match answer.first() {
        Some(l) if l.starts_with("220") => None,
        _ => Some(without_tls("it refuses STARTTLS")),
    })
}

pub(super) fn imap(socket: &mut (impl Read + Write)) -> Answer {
    let mut from = BufReader::new(socket);
    let mut line = String::new();
    from.by_ref().take(MOST).read_line(&mut line)?;
    if !line.starts_with("* OK") {
        return Ok(Some(other("its greeting is not IMAP's")));
    }
    from.get_mut().write_all(b"a1 STARTTLS\r\n")?;
    for _ in 0..100 {
        line.clear();
        if from.by_ref().take(MOST).read_line(&mut line)? == 0 {
            break;
        }
        if let Some(answer) = line.strip_prefix("a1 ") {
            return Ok((!answer.starts_with("OK")).then(|| without_tls("it refuses STARTTLS")));
        }
    }
    Err(ErrorKind::UnexpectedEof.into())
}

/// One line that begins with a word; None at the end.
fn line(from: &mut impl BufRead) -> std::io::Result<Option<String>> {
    let mut line = String::new();
    let read = from.by_ref().take(MOST).read_line(&mut line)?;
    Ok((read > 0).then(|| line.trim_end().to_owned()))
}

/// RFC 2595 §4.
pub(super) fn pop3(socket: &mut (impl Read + Write)) -> Answer {
    let mut from = BufReader::new(socket);
    if !line(&mut from)?.is_some_and(|l| l.starts_with("+OK")) {
        return Ok(Some(other("its greeting is not POP3's")));
    }
    from.get_mut().write_all(b"STLS\r\n")?;
    let answer = line(&mut from)?.ok_or(ErrorKind::UnexpectedEof)?;
    Ok((!answer.starts_with("+OK")).then(|| without_tls("it refuses STLS")))
}

/// RFC 4217 §4.
pub(super) fn ftp(socket: &mut (impl Read + Write)) -> Answer {
    let mut from = BufReader::new(socket);
    if !reply(&mut from)?.iter().all(|l| l.starts_with("220")) {
        return Ok(Some(other("its greeting is not FTP's")));
    }
    from.get_mut().write_all(b"AUTH TLS\r\n")?;
    let answer = reply(&mut from)?;
    let goes_over = answer.first().is_some_and(|l| l.starts_with("234"));
    Ok((!goes_over).then(|| without_tls("it refuses AUTH TLS")))
}

/// The server's INFO says whether it takes TLS; after that TLS begins without another word.
pub(super) fn nats(socket: &mut (impl Read + Write)) -> Answer {
    let mut from = BufReader::new(socket);
    let said = line(&mut from)?.unwrap_or_default();
    let Some(info) = said.strip_prefix("INFO ").and_then(|t| serde_json::from_str::<serde_json::Value>(t).ok()) else {
        return Ok(Some(other("its greeting is not that of NATS")));
    };
    let takes = ["tls_required", "tls_available"].iter().any(|k| info[*k].as_bool() == Some(true));
    Ok((!takes).then(|| without_tls("its greeting does not offer TLS")))
}

/// RFC 6120 §5.4: a stream, its features, STARTTLS.
pub(super) fn xmpp(socket: &mut (impl Read + Write), host: &str) -> Answer {
    const TLS: &str = "urn:ietf:params:xml:ns:xmpp-tls";
    // Names and addresses have no character that XML would have to escape.
    let open = format!(
        "<?xml version='1.0'?><stream:stream to='{host}' version='1.0' xml:lang='en' xmlns='jabber:client' \
         xmlns:stream='http://etherx.jabber.org/streams'>"
    );
    socket.write_all(open.as_bytes())?;
    let features = until(socket, |t| {
        t.contains("</stream:features>") || t.contains("<stream:features/>") || t.contains("</stream:stream>")
    })?;
    if !features.contains("<stream:stream") {
        return Ok(Some(other("its answer is not XMPP's")));
    }
    if !features.contains(TLS) {
        let why = if features.contains("<stream:error") {
            "it serves no such host, or no stream"
        } else {
            "it does not offer STARTTLS"
        };
        return Ok(Some(without_tls(why)));
    }
    socket.write_all(format!("<starttls xmlns='{TLS}'/>").as_bytes())?;
    let answer = until(socket, |t| t.contains("<proceed") && t.ends_with('>') || t.contains("<failure"))?;
    Ok((!answer.contains("<proceed")).then(|| without_tls("it refuses STARTTLS")))
}

/// What comes until it is enough, octet by octet: the next one after that belongs to TLS.
fn until(socket: &mut impl Read, enough: impl Fn(&str) -> bool) -> std::io::Result<String> {
    let mut text = Vec::new();
    let mut byte = [0];
    while (text.len() as u64) < MOST {
        if socket.read(&mut byte)? == 0 {
            break;
        }
        text.push(byte[0]);
        let tail = &text[text.len().saturating_sub(256)..];
        if byte[0] == b'>' && enough(&String::from_utf8_lossy(tail)) {
            break;
        }
        // What is no XML is not waited for.
        if text.len() == 1 && byte[0] != b'<' {
            break;
        }
    }
    Ok(String::from_utf8_lossy(&text).into_owned())
}
