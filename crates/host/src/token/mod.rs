//! Keys on PKCS#11 tokens. The module of a token is somebody else's code: it is loaded in a child process, which is asked one thing after
//! the other, each with a time limit. What the module prints is not read as an answer, and what it breaks is the child alone.

mod child;
mod protocol;

pub use child::answer;
pub use protocol::Token;

use crate::{entropy, nss};
use protocol::{Key, Octets, Question, Reply};
use spki::AlgorithmIdentifierOwned;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tamga_core::error::{Error, Result};
use tamga_core::pki::key::{KeyAlgorithm, PublicKey, SigningKey};
use tamga_core::pki::signature;
use tamga_core::pki::token::{self, TokenUri};
use tamga_core::plan::ports::Entropy;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::token_fault::TokenFault;
use zeroize::Zeroizing;

/// The word by which the program calls itself as the child.
pub const CHILD: &str = "token-child";
/// How long a module may take for anything but making a key and waiting for a person at its keypad.
const PATIENCE: Duration = Duration::from_secs(15);
/// How long it may take to make one: RSA keys of small devices take minutes.
const MAKING: Duration = Duration::from_secs(300);
/// How long it may take for a person to type at the token's own keypad.
const TYPING: Duration = Duration::from_secs(90);
/// How long it has to end by itself.
const ENDING: Duration = Duration::from_millis(500);
/// Longest answer, and most that a module may print in between.
const LONGEST: usize = 1 << 20;

/// The module of a path that was typed, absolute and with its links followed: what is recorded is used from anywhere.
///
/// Errors: there is none.
pub fn module(typed: &Path) -> crate::error::Result<PathBuf> {
    std::fs::canonicalize(typed).map_err(crate::error::Error::file("reading", typed))
}

/// A session with a token, in its child process.
pub struct Session {
    child: Child,
    input: Option<ChildStdin>,
    replies: Receiver<String>,
    /// The token.
    pub token: Token,
    /// The address that it was opened with.
    pub uri: TokenUri,
}

impl std::fmt::Debug for Session {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Session(with {})", self.uri)
    }
}

impl Session {
    /// Loads a module in a child and finds the token of an address. `without` is an environment variable that the child does not get: the
    /// one with the PIN.
    ///
    /// Errors: a build that cannot load modules; a module that cannot be loaded, that ends the child or does not answer; no token, or
    /// several, of that address.
    pub fn open(module: &Path, uri: &TokenUri, without: Option<&str>) -> Result<Session> {
        let failed = |fault| Error::Token { uri: uri.portable().to_string(), fault };
        if !nss::can_load() {
            return Err(failed(TokenFault::Module(
                "this build of Tamga is linked statically; take the build for your system's libraries".into(),
            )));
        }
        let mut started = start(without).map_err(|e| failed(TokenFault::Module(e.to_string())))?;
        let (input, replies) = listen(&mut started).map_err(|e| failed(TokenFault::Module(e.to_string())))?;
        let token = Token { label: String::new(), needs_pin: true, has_keypad: false, hashes_itself: false };
        let mut session = Session { child: started, input: Some(input), replies, token, uri: uri.clone() };
        let asked = Question::Open { module: module.to_owned(), uri: uri.portable().to_string() };
        match session.ask(&asked, PATIENCE)? {
            Reply::Opened(token) => session.token = token,
            _ => return Err(failed(TokenFault::Module("it answered out of turn".into()))),
        }
        Ok(session)
    }

    /// Logs in. A wrong PIN is not tried again.
    ///
    /// Errors: the token does not take the PIN.
    pub fn log_in(&mut self, pin: Option<&Passphrase>) -> Result<()> {
        let pin = pin.map(|p| String::from_utf8(p.octets().to_vec()).map_err(|_| self.failed(TokenFault::PinRefused)));
        let limit = if self.token.has_keypad { TYPING } else { PATIENCE };
        let mut question = Question::LogIn { pin: pin.transpose()? };
        let done = self.ask(&question, limit).map(|_| ());
        if let Question::LogIn { pin: Some(pin) } = &mut question {
            zeroize::Zeroize::zeroize(pin);
        }
        done
    }

    /// The key of the address; `certified` is its public key where a certificate says it.
    ///
    /// Errors: the token has no such key, several, or one of another kind.
    pub fn find(mut self, certified: Option<&PublicKey>) -> Result<TokenKey> {
        match self.ask(&Question::Find, PATIENCE)? {
            Reply::Key(key) => self.key(key, certified),
            _ => Err(self.failed(TokenFault::NoKey)),
        }
    }

    /// True if the token has a key of the address.
    ///
    /// Errors: it has several, or cannot be asked.
    pub fn has_key(&mut self) -> Result<bool> {
        match self.ask(&Question::Find, PATIENCE) {
            Ok(_) => Ok(true),
            Err(Error::Token { fault: TokenFault::NoKey, .. }) => Ok(false),
            Err(e) => Err(e),
        }
    }

    /// Makes a key that cannot leave the token, with the label of the address.
    ///
    /// Errors: the token cannot, or may not be written.
    pub fn make(mut self, algorithm: KeyAlgorithm) -> Result<TokenKey> {
        let id = self.uri.id.clone().unwrap_or_else(|| {
            let mut id = vec![0; 8];
            entropy::System.fill(&mut id);
            id
        });
        let question = Question::Make { algorithm: algorithm.to_string(), id: Octets::of(&id) };
        match self.ask(&question, MAKING)? {
            Reply::Key(key) => self.key(key, None),
            _ => Err(self.failed(TokenFault::NoKey)),
        }
    }

    fn key(self, found: Key, certified: Option<&PublicKey>) -> Result<TokenKey> {
        let public = match (found.spki, certified) {
            (Some(spki), _) => PublicKey::from_spki(spki.read()),
            (None, Some(public)) => public.clone(),
            (None, None) => return Err(self.failed(TokenFault::NoPublicKey)),
        };
        let Some(algorithm) = token::signature_algorithm(&public) else {
            return Err(self.failed(TokenFault::Unusable));
        };
        let uri = TokenUri {
            token: Some(self.token.label.clone()),
            object: found.object.filter(|o| !o.is_empty()).or_else(|| self.uri.object.clone()),
            id: found.id.map(|i| i.read()).filter(|i| !i.is_empty()).or_else(|| self.uri.id.clone()),
            extractable: found.extractable,
            ..self.uri.clone()
        };
        Ok(TokenKey { public, algorithm, uri, session: Arc::new(Mutex::new(self)) })
    }

    fn failed(&self, fault: TokenFault) -> Error {
        Error::Token { uri: self.uri.portable().to_string(), fault }
    }

    /// Asks the child one thing. One that does not answer, or ended, is not asked again.
    fn ask(&mut self, question: &Question, limit: Duration) -> Result<Reply> {
        let mut line = Zeroizing::new(Vec::with_capacity(1 << 12));
        let written = serde_json::to_writer(&mut *line, question).map_err(std::io::Error::from).and_then(|()| {
            line.push(b'\n');
            let input = self.input.as_mut().ok_or(std::io::ErrorKind::BrokenPipe)?;
            input.write_all(&line)?;
            input.flush()
        });
        if written.is_err() {
            let fault = self.ended();
            return Err(self.failed(fault));
        }
        match self.replies.recv_timeout(limit) {
            Ok(reply) => match serde_json::from_str(&reply) {
                Ok(Reply::Failed(fault)) => Err(self.failed(fault)),
                Ok(reply) => Ok(reply),
                Err(_) => Err(self.failed(TokenFault::Module("its answer cannot be read".into()))),
            },
            Err(RecvTimeoutError::Timeout) => {
                let _ = self.child.kill();
                self.input = None;
                Err(self.failed(TokenFault::Silent(limit.as_secs())))
            }
            Err(RecvTimeoutError::Disconnected) => {
                self.input = None;
                let fault = self.ended();
                Err(self.failed(fault))
            }
        }
    }

    fn ended(&mut self) -> TokenFault {
        let _ = self.child.kill();
        match self.child.wait() {
            Ok(status) => TokenFault::Ended(status.to_string()),
            Err(e) => TokenFault::Ended(e.to_string()),
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        // With its input closed it ends by itself, and the module logs out.
        self.input = None;
        let since = Instant::now();
        while since.elapsed() < ENDING {
            if !matches!(self.child.try_wait(), Ok(None)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn start(without: Option<&str>) -> std::io::Result<Child> {
    // Through the open program where the system has that: a program that is replaced meanwhile stays the one that runs.
    let open = Path::new("/proc/self/exe");
    let mut command = Command::new(if open.exists() { open.to_owned() } else { std::env::current_exe()? });
    command.arg(CHILD).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    if let Some(variable) = without {
        command.env_remove(variable);
    }
    command.spawn()
}

/// Tells the child what its answers begin with, and reads them in a thread of their own.
fn listen(child: &mut Child) -> std::io::Result<(ChildStdin, Receiver<String>)> {
    let (Some(mut input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(std::io::ErrorKind::BrokenPipe.into());
    };
    let mut octets = [0; 16];
    entropy::System.fill(&mut octets);
    let mark: String = octets.iter().map(|b| format!("{b:02x}")).collect();
    input.write_all(format!("{mark}\n").as_bytes())?;
    let (send, replies) = sync_channel(1);
    std::thread::spawn(move || {
        let mut output = BufReader::new(output);
        let mut printed = 0;
        loop {
            let mut line = Vec::new();
            match output.by_ref().take(LONGEST as u64).read_until(b'\n', &mut line) {
                Ok(n) if n > 0 => {}
                _ => return,
            }
            match std::str::from_utf8(&line).ok().and_then(|l| l.trim_end().strip_prefix(&mark)) {
                Some(reply) if line.ends_with(b"\n") => {
                    printed = 0;
                    if send.send(reply.to_owned()).is_err() {
                        return;
                    }
                }
                _ => printed += line.len(),
            }
            if printed > LONGEST {
                return;
            }
        }
    });
    Ok((input, replies))
}

/// A key on a token. It signs there. A copy is the same key in the same session.
#[derive(Clone, Debug)]
pub struct TokenKey {
    public: PublicKey,
    algorithm: AlgorithmIdentifierOwned,
    uri: TokenUri,
    session: Arc<Mutex<Session>>,
}

impl TokenKey {
    /// Its address, as it is recorded.
    pub fn uri(&self) -> &TokenUri {
        &self.uri
    }

    /// Deletes it from the token: for one that was just made and is not used.
    ///
    /// Errors: the token does not do it.
    pub fn delete(&self) -> Result<()> {
        let mut session = self.session.lock().unwrap_or_else(PoisonError::into_inner);
        session.ask(&Question::Delete, PATIENCE).map(|_| ())
    }
}

impl SigningKey for TokenKey {
    fn public(&self) -> &PublicKey {
        &self.public
    }

    fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        self.algorithm.clone()
    }

    fn sign(&self, message: &[u8], _: &dyn Entropy) -> Result<Vec<u8>> {
        let mut session = self.session.lock().unwrap_or_else(PoisonError::into_inner);
        let (mechanism, input) = token::question(&self.public, message, session.token.hashes_itself)
            .ok_or_else(|| session.failed(TokenFault::Unusable))?;
        let reply = session.ask(&Question::Sign { mechanism, input: Octets::of(&input) }, PATIENCE)?;
        let Reply::Signature(raw) = reply else {
            return Err(session.failed(TokenFault::WrongSignature));
        };
        let made =
            token::signature(&self.public, &raw.read()).ok_or_else(|| session.failed(TokenFault::WrongSignature))?;
        // Nothing is published that does not verify, whatever the token returned.
        match signature::verify(&self.signature_algorithm(), self.public.spki(), message, &made) {
            Ok(()) => Ok(made),
            Err(_) => Err(session.failed(TokenFault::WrongSignature)),
        }
    }
}
