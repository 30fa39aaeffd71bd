//! Making tokens.

use data_encoding::BASE64URL_NOPAD;
use minicbor::Encoder;
use minicbor::data::Tag;

use super::read::{ALG, CWT_TAG, KID, MAC0_TAG, SIGN1_TAG, TYP, to_be_signed};
use super::value::{Name, Value};
use super::{CWT_TYPE, Claims, Form, JWT_TYPE, TokenSigner};
use crate::key::SignError;

/// Signs claims as a token of this form; a JWT is text.
///
/// # Errors
/// The key cannot sign tokens, or not now.
pub fn sign(form: Form, claims: &Claims, signer: TokenSigner<'_>, kid: &str) -> Result<Vec<u8>, SignError> {
    let algorithm = signer.algorithm().ok_or(SignError::Library)?;
    let claims = claims.to_value(form == Form::Cwt);
    match form {
        Form::Jwt => {
            let text = |text: &str| Value::Text(text.to_owned());
            let member = |name: &str, value| (Name::of(name), text(value));
            let header =
                Value::Map(vec![member("alg", algorithm.as_str()), member("typ", JWT_TYPE), member("kid", kid)]);
            let (mut token, mut json) = (String::with_capacity(640), Vec::with_capacity(400));
            header.write_json(&mut json);
            BASE64URL_NOPAD.encode_append(&json, &mut token);
            token.push('.');
            json.clear();
            claims.write_json(&mut json);
            BASE64URL_NOPAD.encode_append(&json, &mut token);
            let signature = signer.sign(token.as_bytes())?;
            token.push('.');
            BASE64URL_NOPAD.encode_append(&signature, &mut token);
            Ok(token.into_bytes())
        }
        Form::Cwt => {
            let header = Value::Map(vec![
                (Name::Number(ALG), Value::Int(algorithm.number())),
                (Name::Number(KID), Value::Bytes(kid.as_bytes().to_vec())),
                (Name::Number(TYP), Value::Text(CWT_TYPE.to_owned())),
            ]);
            let (protected, payload) = (header.to_cbor(), claims.to_cbor());
            let signature = signer.sign(&to_be_signed(&protected, &payload, algorithm.is_mac()))?;
            let mut token = Vec::new();
            let kind = if algorithm.is_mac() { MAC0_TAG } else { SIGN1_TAG };
            let mut encoder = Encoder::new(&mut token);
            // A vector takes everything.
            let _ = encoder.tag(Tag::new(CWT_TAG)).and_then(|encoder| encoder.tag(Tag::new(kind)));
            let body =
                vec![Value::Bytes(protected), Value::Map(Vec::new()), Value::Bytes(payload), Value::Bytes(signature)];
            token.extend(Value::Array(body).to_cbor());
            Ok(token)
        }
    }
}
