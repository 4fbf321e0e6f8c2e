//! The child's side: loads the module, speaks PKCS#11 with it, and answers. Whatever the module prints, breaks or ends, it does so here.

use super::protocol::{Key, Octets, Question, Reply, Token};
use cryptoki::context::{CInitializeArgs, CInitializeFlags, Pkcs11};
use cryptoki::error::{Error, RvError};
use cryptoki::mechanism::eddsa::{EddsaParams, EddsaSignatureScheme};
use cryptoki::mechanism::{Mechanism as How, MechanismType};
use cryptoki::object::{Attribute, AttributeType, KeyType, ObjectClass, ObjectHandle};
use cryptoki::session::{Session, UserType};
use cryptoki::slot::{Slot, TokenInfo};
use cryptoki::types::AuthPin;
use std::io::{BufRead, Read, Write};
use tamga_core::pki::key::{KeyAlgorithm, PublicKey};
use tamga_core::pki::token::{Attributes, Mechanism, TokenUri, curve_parameters};
use tamga_core::vocabulary::token_fault::TokenFault;
use zeroize::Zeroizing;

type Outcome<T> = Result<T, TokenFault>;

/// Answers questions from standard input until there are no more. Gives the exit code.
pub fn answer() -> u8 {
    let Ok((input, mut output)) = crate::platform::own_streams() else {
        return 70;
    };
    let mut said = std::io::BufReader::new(input);
    // The first line is what every answer begins with: what the module prints does not.
    let mut mark = String::new();
    if said.by_ref().take(128).read_line(&mut mark).is_err() {
        return 70;
    }
    let (send, questions) = std::sync::mpsc::sync_channel(1);
    // Read beside the module: when nobody is left to be answered, one that hangs ends too.
    std::thread::spawn(move || {
        loop {
            // A PIN may be in it: wiped, and large enough from the first that no copy of a PIN is left behind by growing.
            let mut line = Zeroizing::new(String::with_capacity(1 << 12));
            let read = said.read_line(&mut line);
            if !matches!(read, Ok(n) if n > 0) {
                drop(send);
                std::thread::sleep(ENDING);
                std::process::exit(0);
            }
            if send.send(line).is_err() {
                return;
            }
        }
    });
    let mut state = State::default();
    while let Ok(line) = questions.recv() {
        let Ok(question) = serde_json::from_str::<Question>(&line) else {
            return 70;
        };
        let reply = state.answer(question).unwrap_or_else(Reply::Failed);
        let Ok(text) = serde_json::to_string(&reply) else {
            return 70;
        };
        if output.write_all(format!("\n{}{text}\n", mark.trim_end()).as_bytes()).is_err() {
            return 0;
        }
    }
    0
}

/// How long the module has to log out when there are no more questions.
const ENDING: std::time::Duration = std::time::Duration::from_millis(400);

#[derive(Default)]
struct State {
    /// The address that is worked on.
    uri: TokenUri,
    module: Option<Pkcs11>,
    open: Option<Open>,
    /// The PIN that the token took, for when it was out in between.
    pin: Option<AuthPin>,
    /// The public key of the key that was found: another one is not signed with after the token was out.
    public: Option<Vec<u8>>,
}

/// A token with a session.
struct Open {
    session: Session,
    slot: Slot,
    serial: String,
    key: Option<ObjectHandle>,
}

impl State {
    fn answer(&mut self, question: Question) -> Outcome<Reply> {
        match question {
            Question::Open { module, uri } => {
                self.uri = uri.parse().map_err(|_| TokenFault::NoKey)?;
                let library = Pkcs11::new(module).map_err(module_fault)?;
                match library.initialize(CInitializeArgs::new(CInitializeFlags::OS_LOCKING_OK)) {
                    Ok(()) | Err(Error::Pkcs11(RvError::CryptokiAlreadyInitialized, _)) => {}
                    Err(e) => return Err(module_fault(e)),
                }
                self.module = Some(library);
                self.connect(None).map(Reply::Opened)
            }
            Question::LogIn { pin } => {
                self.log_in(pin.map(AuthPin::from))?;
                Ok(Reply::Done)
            }
            Question::Find => self.find().map(Reply::Key),
            Question::Make { algorithm, id } => self.make(&algorithm, &id.read()).map(Reply::Key),
            Question::Delete => {
                let open = self.open()?;
                let key = open.key.ok_or(TokenFault::NoKey)?;
                for object in self.beside(open, key) {
                    open.session.destroy_object(object).map_err(fault)?;
                }
                open.session.destroy_object(key).map_err(fault)?;
                Ok(Reply::Done)
            }
            Question::Sign { mechanism, input } => {
                let input = input.read();
                let signed = match self.sign(mechanism, &input) {
                    // The token was out, or the session was ended: once more from the beginning, with the PIN that was right.
                    Err(TokenFault::Gone(_)) => {
                        self.again()?;
                        self.sign(mechanism, &input)
                    }
                    other => other,
                };
                signed.map(|s| Reply::Signature(Octets::of(&s)))
            }
        }
    }

    fn open(&self) -> Outcome<&Open> {
        self.open.as_ref().ok_or_else(|| TokenFault::Gone("there is no session".into()))
    }

    /// Finds the token and opens a session with it; where it was open before, only the one of the same number.
    fn connect(&mut self, serial: Option<&str>) -> Outcome<Token> {
        let library = self.module.as_ref().ok_or_else(|| TokenFault::Module("it is not loaded".into()))?;
        let mut all = Vec::new();
        for slot in library.get_slots_with_initialized_token().map_err(fault)? {
            let Ok(info) = library.get_token_info(slot) else { continue };
            all.push((slot, info));
        }
        let named =
            |t: &(Slot, TokenInfo)| format!("{} (serial {})", t.1.label().trim_end(), t.1.serial_number().trim_end());
        let meant: Vec<&(Slot, TokenInfo)> =
            all.iter().filter(|(slot, info)| self.is_meant(*slot, info, serial)).collect();
        let (slot, info) = match meant.as_slice() {
            [one] => one,
            [] => return Err(TokenFault::NoToken(all.iter().map(named).collect())),
            several => return Err(TokenFault::ManyTokens(several.iter().map(|t| named(t)).collect())),
        };
        let mechanisms = library.get_mechanism_list(*slot).map_err(fault)?;
        let token = Token {
            label: info.label().trim_end().to_owned(),
            needs_pin: info.login_required(),
            has_keypad: info.protected_authentication_path(),
            hashes_itself: !mechanisms.contains(&MechanismType::RSA_PKCS)
                && mechanisms.contains(&MechanismType::SHA256_RSA_PKCS),
        };
        let serial = info.serial_number().trim_end().to_owned();
        // A session that may write is needed only for making a key; a token may refuse it.
        let session = match library.open_rw_session(*slot) {
            Ok(session) => session,
            Err(Error::Pkcs11(RvError::TokenWriteProtected, _)) => library.open_ro_session(*slot).map_err(fault)?,
            Err(e) => return Err(fault(e)),
        };
        self.open = Some(Open { session, slot: *slot, serial, key: None });
        Ok(token)
    }

    fn is_meant(&self, slot: Slot, info: &TokenInfo, serial: Option<&str>) -> bool {
        let same = |wanted: &Option<String>, is: &str| wanted.as_ref().is_none_or(|w| w == is.trim_end());
        same(&self.uri.token, info.label())
            && same(&self.uri.serial, info.serial_number())
            && same(&self.uri.manufacturer, info.manufacturer_id())
            && same(&self.uri.model, info.model())
            && self.uri.slot.is_none_or(|n| n == slot.id())
            && serial.is_none_or(|s| s == info.serial_number().trim_end())
    }

    fn log_in(&mut self, pin: Option<AuthPin>) -> Outcome<()> {
        let open = self.open()?;
        match open.session.login(UserType::User, pin.as_ref()) {
            Ok(()) | Err(Error::Pkcs11(RvError::UserAlreadyLoggedIn, _)) => {}
            Err(Error::Pkcs11(RvError::PinIncorrect, _)) => {
                let few_left = self.module.as_ref().and_then(|m| m.get_token_info(open.slot).ok());
                let few_left = few_left.is_some_and(|i| i.user_pin_count_low() || i.user_pin_final_try());
                // Never given again: each wrong one counts.
                self.pin = None;
                return Err(TokenFault::PinWrong { few_left });
            }
            Err(Error::Pkcs11(RvError::PinLocked, _)) => return Err(TokenFault::PinLocked),
            Err(Error::Pkcs11(RvError::PinLenRange | RvError::PinInvalid, _)) => return Err(TokenFault::PinRefused),
            Err(e) => return Err(fault(e)),
        }
        self.pin = pin;
        Ok(())
    }

    /// Connects again after the token was out, to the same token and the same key.
    fn again(&mut self) -> Outcome<()> {
        let gone = |said: &str| TokenFault::Gone(said.into());
        let serial = self.open()?.serial.clone();
        let token = self.connect(Some(&serial)).map_err(|_| gone("it is not found again"))?;
        if token.needs_pin && !token.has_keypad {
            let pin = self.pin.take().ok_or_else(|| gone("its PIN is needed again"))?;
            self.log_in(Some(pin))?;
        }
        let known = self.public.clone();
        let key = self.find().map_err(|_| gone("its key is not found again"))?;
        match (known, key.spki.map(|s| s.read())) {
            (Some(before), Some(now)) if before != now => Err(gone("it holds another key")),
            _ => Ok(()),
        }
    }

    /// What the address says of an object of a class.
    fn template(&self, class: ObjectClass) -> Vec<Attribute> {
        let label = self.uri.object.as_ref().map(|o| Attribute::Label(o.clone().into_bytes()));
        let id = self.uri.id.clone().map(Attribute::Id);
        std::iter::once(Attribute::Class(class)).chain(label).chain(id).collect()
    }

    fn find(&mut self) -> Outcome<Key> {
        let open = self.open()?;
        let found = open.session.find_objects(&self.template(ObjectClass::PRIVATE_KEY)).map_err(fault)?;
        let key = match found.as_slice() {
            [one] => *one,
            [] => return Err(TokenFault::NoKey),
            several => return Err(TokenFault::ManyKeys(several.len())),
        };
        self.take(key)
    }

    /// Takes a private key as the one that signs, and says what the token says of it.
    fn take(&mut self, key: ObjectHandle) -> Outcome<Key> {
        let open = self.open()?;
        let asked = [
            AttributeType::Label,
            AttributeType::Id,
            AttributeType::Sign,
            AttributeType::Extractable,
            AttributeType::NeverExtractable,
        ];
        let (mut object, mut id, mut signs, mut may_leave, mut never_could) = (None, None, true, None, None);
        for attribute in open.session.get_attributes(key, &asked).map_err(fault)? {
            match attribute {
                Attribute::Label(label) => object = String::from_utf8(label).ok(),
                Attribute::Id(octets) => id = Some(octets),
                Attribute::Sign(yes) => signs = yes,
                Attribute::Extractable(yes) => may_leave = Some(yes),
                Attribute::NeverExtractable(yes) => never_could = Some(yes),
                _ => {}
            }
        }
        if !signs {
            return Err(TokenFault::Unusable);
        }
        // One that could leave once may have been copied then.
        let extractable = match (may_leave, never_could) {
            (Some(true), _) | (_, Some(false)) => Some(true),
            (Some(false), _) | (_, Some(true)) => Some(false),
            (None, None) => None,
        };
        let spki = std::iter::once(key).chain(self.beside(open, key)).find_map(|o| public_key(&open.session, o));
        if let Some(open) = &mut self.open {
            open.key = Some(key);
        }
        self.public = spki.as_ref().map(|p| p.spki().to_vec());
        let spki = spki.map(|p| Octets::of(p.spki()));
        Ok(Key { spki, object, id: id.map(|i| Octets::of(&i)), extractable })
    }

    /// The public keys with the identifier of a private one. The private object itself often lacks the point.
    fn beside(&self, open: &Open, key: ObjectHandle) -> Vec<ObjectHandle> {
        let id = open.session.get_attributes(key, &[AttributeType::Id]).ok().and_then(|all| {
            all.into_iter().find_map(|a| match a {
                Attribute::Id(id) if !id.is_empty() => Some(id),
                _ => None,
            })
        });
        let template = match id {
            Some(id) => vec![Attribute::Class(ObjectClass::PUBLIC_KEY), Attribute::Id(id)],
            None => self.template(ObjectClass::PUBLIC_KEY),
        };
        open.session.find_objects(&template).unwrap_or_default()
    }

    fn make(&mut self, algorithm: &str, id: &[u8]) -> Outcome<Key> {
        let algorithm: KeyAlgorithm = algorithm.parse().map_err(|_| TokenFault::Unsupported(algorithm.to_owned()))?;
        let open = self.open()?;
        let label = Attribute::Label(self.uri.object.clone().unwrap_or_default().into_bytes());
        let mut public =
            vec![Attribute::Token(true), Attribute::Verify(true), Attribute::Id(id.to_vec()), label.clone()];
        let private = [
            Attribute::Token(true),
            Attribute::Private(true),
            Attribute::Sensitive(true),
            Attribute::Extractable(false),
            Attribute::Sign(true),
            Attribute::Id(id.to_vec()),
            label,
        ];
        let how = match curve_parameters(algorithm) {
            Some(curve) => {
                public.push(Attribute::EcParams(curve));
                if algorithm == KeyAlgorithm::Ed25519 { How::EccEdwardsKeyPairGen } else { How::EccKeyPairGen }
            }
            None => {
                public.push(Attribute::ModulusBits(algorithm.rsa_bits().unwrap_or(2048).try_into().map_err(fault)?));
                public.push(Attribute::PublicExponent(vec![1, 0, 1]));
                How::RsaPkcsKeyPairGen
            }
        };
        let made = open.session.generate_key_pair(&how, &public, &private).map_err(|e| match e {
            Error::Pkcs11(RvError::TokenWriteProtected | RvError::SessionReadOnly, _) => TokenFault::ReadOnly,
            Error::Pkcs11(
                RvError::MechanismInvalid
                | RvError::CurveNotSupported
                | RvError::KeySizeRange
                | RvError::DomainParamsInvalid,
                _,
            ) => TokenFault::Unsupported(format!("{algorithm} keys")),
            e => fault(e),
        })?;
        self.take(made.1)
    }

    fn sign(&self, mechanism: Mechanism, input: &[u8]) -> Outcome<Vec<u8>> {
        let open = self.open()?;
        let key = open.key.ok_or_else(|| TokenFault::Gone("its key is not found".into()))?;
        let how = match mechanism {
            Mechanism::Ecdsa => How::Ecdsa,
            Mechanism::Eddsa => How::Eddsa(EddsaParams::new(EddsaSignatureScheme::Pure)),
            Mechanism::RsaPkcs => How::RsaPkcs,
            Mechanism::Sha256RsaPkcs => How::Sha256RsaPkcs,
        };
        open.session.sign(&how, key, input).map_err(|e| match e {
            Error::Pkcs11(RvError::MechanismInvalid | RvError::KeyTypeInconsistent, _) => {
                TokenFault::Unsupported("signatures with this key".into())
            }
            e => fault(e),
        })
    }
}

fn public_key(session: &Session, object: ObjectHandle) -> Option<PublicKey> {
    let asked = [
        AttributeType::KeyType,
        AttributeType::EcParams,
        AttributeType::EcPoint,
        AttributeType::Modulus,
        AttributeType::PublicExponent,
    ];
    let mut said = Attributes::default();
    for attribute in session.get_attributes(object, &asked).ok()? {
        match attribute {
            Attribute::KeyType(kind) if ![KeyType::EC, KeyType::EC_EDWARDS, KeyType::RSA].contains(&kind) => {
                return None;
            }
            Attribute::EcParams(curve) => said.curve = Some(curve),
            Attribute::EcPoint(point) => said.point = Some(point),
            Attribute::Modulus(n) => said.modulus = Some(n),
            Attribute::PublicExponent(e) => said.exponent = Some(e),
            _ => {}
        }
    }
    said.public_key()
}

/// What the module could not do at the very beginning.
fn module_fault(e: Error) -> TokenFault {
    TokenFault::Module(match e {
        Error::LibraryLoading(e) => e.to_string(),
        Error::MissingSymbol(name) => format!("it has no {name}, so it is no PKCS#11 module"),
        Error::NullFunctionPointer => "it gives no functions".into(),
        e => words(&e),
    })
}

fn fault(e: impl Into<Error>) -> TokenFault {
    match e.into() {
        Error::Pkcs11(
            RvError::DeviceRemoved
            | RvError::TokenNotPresent
            | RvError::TokenNotRecognized
            | RvError::SlotIdInvalid
            | RvError::SessionHandleInvalid
            | RvError::SessionClosed
            | RvError::KeyHandleInvalid
            | RvError::ObjectHandleInvalid
            | RvError::UserNotLoggedIn
            | RvError::DeviceError,
            _,
        ) => TokenFault::Gone("it does not know the session or the key any more".into()),
        Error::Pkcs11(RvError::PinLocked, _) => TokenFault::PinLocked,
        Error::Pkcs11(RvError::TokenWriteProtected | RvError::SessionReadOnly, _) => TokenFault::ReadOnly,
        Error::NullFunctionPointer => TokenFault::Module("it lacks a function that is needed".into()),
        e => TokenFault::Refused(words(&e)),
    }
}

/// The name of PKCS#11 for what was answered, without what is written around it.
fn words(e: &Error) -> String {
    match e {
        Error::Pkcs11(rv, function) => format!("{rv:?} (in C_{function:?})"),
        e => e.to_string(),
    }
}
