//! Keys of authorities on PKCS#11 tokens (OASIS PKCS#11 3.0): they sign where they are and never leave.

use std::fmt;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use cryptoki::context::{CInitializeArgs, CInitializeFlags, Pkcs11};
use cryptoki::error::{Error, RvError};
use cryptoki::mechanism::Mechanism;
use cryptoki::object::{Attribute, AttributeType, KeyType as TokenKeyType, ObjectClass, ObjectHandle};
use cryptoki::session::{Session, UserType};
use cryptoki::types::AuthPin;
use tidy_warden_core::asn1;
use tidy_warden_core::key::{KeyType, NewKey, PublicKey, SignError, Signer, ecdsa_signature, sha256, sha384};

/// What goes wrong with a token.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum HsmError {
    /// The PKCS#11 library cannot be loaded or does not start.
    #[error("the PKCS#11 module {path} cannot be used: {detail}")]
    Module {
        /// The library.
        path: String,
        /// What it or the system says.
        detail: String,
    },
    /// No token of that label is there.
    #[error("no token with the label `{label}` is there; there are: {others}")]
    NoToken {
        /// The label.
        label: String,
        /// Those that are there.
        others: String,
    },
    /// The token does not take the PIN.
    #[error("the token does not take the PIN")]
    Pin,
    /// No key of that label is on the token.
    #[error("no key with the label `{0}` is on the token")]
    NoKey(String),
    /// A key of that label is there already.
    #[error("a key with the label `{0}` is on the token already")]
    KeyExists(String),
    /// A key of a type that cannot be used there.
    #[error("keys of the type {0} cannot be kept on a token here; use p256, p384 or rsa3072")]
    Unsupported(&'static str),
    /// The token fails.
    #[error("the token says: {0}")]
    Token(String),
}

impl From<Error> for HsmError {
    fn from(error: Error) -> Self {
        match error {
            Error::Pkcs11(RvError::PinIncorrect | RvError::PinLenRange | RvError::PinLocked, _) => Self::Pin,
            other => Self::Token(other.to_string()),
        }
    }
}

/// A token that was opened with its PIN.
pub struct Token {
    // One session, used by one caller at a time: what a token does in parallel differs from maker to maker.
    session: Arc<Mutex<Session>>,
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Token")
    }
}

impl Token {
    /// Opens the token with a label.
    ///
    /// # Errors
    /// The library, the token or the PIN is wrong.
    pub fn open(module: &Path, label: &str, pin: &[u8]) -> Result<Self, HsmError> {
        let failed = |error: Error| HsmError::Module { path: module.display().to_string(), detail: error.to_string() };
        let library = Pkcs11::new(module).map_err(failed)?;
        match library.initialize(CInitializeArgs::new(CInitializeFlags::OS_LOCKING_OK)) {
            // Another token of the same library was opened before in this process.
            Ok(()) | Err(Error::Pkcs11(RvError::CryptokiAlreadyInitialized, _)) => {}
            Err(error) => return Err(failed(error)),
        }
        let mut others = Vec::new();
        for slot in library.get_slots_with_initialized_token().map_err(failed)? {
            let found = library.get_token_info(slot)?.label().trim_end().to_owned();
            if found == label {
                let session = library.open_rw_session(slot)?;
                let pin = AuthPin::new(String::from_utf8_lossy(pin).into_owned().into());
                match session.login(UserType::User, Some(&pin)) {
                    Ok(()) | Err(Error::Pkcs11(RvError::UserAlreadyLoggedIn, _)) => {}
                    Err(error) => return Err(error.into()),
                }
                return Ok(Self { session: Arc::new(Mutex::new(session)) });
            }
            others.push(found);
        }
        let others = if others.is_empty() { "none".to_owned() } else { others.join(", ") };
        Err(HsmError::NoToken { label: label.to_owned(), others })
    }

    /// Makes a key pair on the token; the private half can be neither read nor taken away.
    ///
    /// # Errors
    /// A key of that label exists, or the token cannot make one.
    pub fn make_key(&self, label: &str, new: NewKey) -> Result<TokenKey, HsmError> {
        if self.find(label, ObjectClass::PRIVATE_KEY)?.is_some() {
            return Err(HsmError::KeyExists(label.to_owned()));
        }
        let id = sha256(label.as_bytes())[..16].to_vec();
        let common = || vec![Attribute::Token(true), Attribute::Label(label.into()), Attribute::Id(id.clone())];
        let mut public = common();
        let mut private = common();
        public.push(Attribute::Verify(true));
        private.extend([
            Attribute::Private(true),
            Attribute::Sensitive(true),
            Attribute::Extractable(false),
            Attribute::Sign(true),
        ]);
        let mechanism = match new {
            NewKey::P256 | NewKey::P384 => {
                let curve = if new == NewKey::P256 {
                    const_oid::db::rfc5912::SECP_256_R_1
                } else {
                    const_oid::db::rfc5912::SECP_384_R_1
                };
                public.push(Attribute::EcParams(asn1::oid(curve)));
                Mechanism::EccKeyPairGen
            }
            NewKey::Rsa3072 => {
                public.push(Attribute::ModulusBits(3072.into()));
                public.push(Attribute::PublicExponent(vec![1, 0, 1]));
                Mechanism::RsaPkcsKeyPairGen
            }
            NewKey::Ed25519 | NewKey::MlDsa65 => return Err(HsmError::Unsupported(new.as_str())),
        };
        self.lock().generate_key_pair(&mechanism, &public, &private)?;
        self.key(label)
    }

    /// The key with a label.
    ///
    /// # Errors
    /// There is none, or it is of a type that cannot be used.
    pub fn key(&self, label: &str) -> Result<TokenKey, HsmError> {
        let absent = || HsmError::NoKey(label.to_owned());
        let private = self.find(label, ObjectClass::PRIVATE_KEY)?.ok_or_else(absent)?;
        let public = self.find(label, ObjectClass::PUBLIC_KEY)?.ok_or_else(absent)?;
        let wanted =
            [AttributeType::KeyType, AttributeType::EcPoint, AttributeType::Modulus, AttributeType::PublicExponent];
        let (mut point, mut modulus, mut exponent, mut kind) = (None, None, None, None);
        for attribute in self.lock().get_attributes(public, &wanted)? {
            match attribute {
                Attribute::KeyType(found) => kind = Some(found),
                Attribute::EcPoint(found) => point = Some(found),
                Attribute::Modulus(found) => modulus = Some(found),
                Attribute::PublicExponent(found) => exponent = Some(found),
                _ => {}
            }
        }
        let unusable = || HsmError::Unsupported("that the token has under this label");
        let public = match (kind, point, modulus, exponent) {
            // PKCS#11 3.0 section 2.3.3: the point is wrapped in an OCTET STRING; some tokens leave the wrapping out.
            (Some(TokenKeyType::EC), Some(point), _, _) => {
                let bare = match point.as_slice() {
                    [4, length, rest @ ..] if usize::from(*length) == rest.len() => rest,
                    all => all,
                };
                PublicKey::from_ec_point(bare)
            }
            (Some(TokenKeyType::RSA), _, Some(modulus), Some(exponent)) => PublicKey::from_rsa(&modulus, &exponent),
            _ => return Err(unusable()),
        };
        let public = public.map_err(|_| unusable())?;
        Ok(TokenKey { session: self.session.clone(), private, public })
    }

    /// Takes a key away for good. Says whether there was one.
    ///
    /// # Errors
    /// The token does not let go of it.
    pub fn remove_key(&self, label: &str) -> Result<bool, HsmError> {
        let mut found = false;
        // The private half first: without it the other is of no use to anybody.
        for class in [ObjectClass::PRIVATE_KEY, ObjectClass::PUBLIC_KEY] {
            while let Some(object) = self.find(label, class)? {
                self.lock().destroy_object(object)?;
                found = true;
            }
        }
        Ok(found)
    }

    fn find(&self, label: &str, class: ObjectClass) -> Result<Option<ObjectHandle>, HsmError> {
        let template = [Attribute::Class(class), Attribute::Label(label.into())];
        Ok(self.lock().find_objects(&template)?.first().copied())
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Session> {
        self.session.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A private key on a token.
pub struct TokenKey {
    session: Arc<Mutex<Session>>,
    private: ObjectHandle,
    public: PublicKey,
}

impl fmt::Debug for TokenKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "TokenKey({})", self.public.key_type())
    }
}

impl Signer for TokenKey {
    fn public_key(&self) -> &PublicKey {
        &self.public
    }

    fn algorithm(&self) -> Vec<u8> {
        self.public.signature_algorithm()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, SignError> {
        let session = self.session.lock().unwrap_or_else(PoisonError::into_inner);
        let sign = |mechanism: &Mechanism<'_>, data: &[u8]| {
            session.sign(mechanism, self.private, data).map_err(|error| SignError::Holder(error.to_string()))
        };
        match self.public.key_type() {
            KeyType::P256 => sign(&Mechanism::Ecdsa, &sha256(message)).map(|raw| ecdsa_signature(&raw)),
            KeyType::P384 => sign(&Mechanism::Ecdsa, &sha384(message)).map(|raw| ecdsa_signature(&raw)),
            KeyType::Rsa(_) => sign(&Mechanism::Sha256RsaPkcs, message),
            _ => Err(SignError::Library),
        }
    }
}
