//! Whatever a server says before TLS comes to an end, and nothing but what the protocol wants is answered.
#![no_main]

use std::io::{Cursor, Read, Write};
use tamga_host::dial::Prelude;

struct Server<'a>(Cursor<&'a [u8]>, usize);

impl Read for Server<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        self.0.read(into)
    }
}

impl Write for Server<'_> {
    fn write(&mut self, from: &[u8]) -> std::io::Result<usize> {
        self.1 += from.len();
        Ok(from.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    use Prelude::{Ftp, Imap, Ldap, Mysql, Nats, Pop3, Postgres, Smtp, SqlServer, Xmpp};
    let all = [Postgres, Mysql, Smtp, Imap, Ldap, SqlServer, Pop3, Ftp, Xmpp, Nats];
    for prelude in all {
        let mut server = Server(Cursor::new(bytes), 0);
        let _ = prelude.say(&mut server, "charts.saltmarsh.test");
        assert!(server.1 < 1_000);
    }
});
