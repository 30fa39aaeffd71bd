//! The forms in which an outfit is shown: values in, text out. A secret stands in none of them unless it was asked for.

use std::fmt::Write as _;

use tidy_warden_core::outfit::Connect;

/// What a device needs to connect.
pub(super) struct Shown {
    pub(super) connect: Connect,
    pub(super) kind: String,
    pub(super) state: &'static str,
    pub(super) ward: String,
    pub(super) root_pem: String,
    /// Those that lead from its certificate to the root; empty if it has none.
    pub(super) chain_pem: String,
    /// The certificate with which it signs in, if it has one of the ward.
    pub(super) device_pem: Option<String>,
    /// The folder in which its outfit stands, if it was named, and whether its key is in it.
    pub(super) folder: Option<(String, bool)>,
    /// A token that was made for this, if one was wanted.
    pub(super) token: Option<String>,
    /// Whether its kind signs in by token.
    pub(super) token_login: bool,
}

impl Shown {
    fn file(&self, name: &str) -> String {
        match &self.folder {
            Some((folder, _)) => format!("{folder}/{name}"),
            None => name.to_owned(),
        }
    }

    fn qos(&self, filter: &str) -> u8 {
        self.connect.publish_qos.get(filter).copied().unwrap_or(2)
    }
}

/// For a person with a form to fill in.
pub(super) fn card(shown: &Shown) -> String {
    let Connect { device, host, port, client_id, user_name, publish, subscribe, root_fingerprint, .. } = &shown.connect;
    let mut lines = vec![
        ("device", format!("{device} ({}), {}", shown.kind, shown.state)),
        ("host", host.clone()),
        ("port", format!("{port}, MQTT 3.1.1 or 5.0 over TLS 1.2 or 1.3")),
        ("client identifier", client_id.clone()),
    ];
    match (&shown.token, shown.token_login) {
        (Some(token), _) => {
            lines.push(("user name", user_name.clone()));
            lines.push(("password", token.clone()));
        }
        (None, true) => {
            lines.push((
                "user name",
                format!("{user_name}, beside a token (--token 8h makes one); none with a certificate"),
            ));
        }
        (None, false) => lines.push(("user name", "none: it signs in with its certificate".to_owned())),
    }
    let mut topics = |name: &'static str, filters: Vec<String>| match filters.is_empty() {
        true => lines.push((name, "nothing: no adopted policy lets it".to_owned())),
        false => {
            let first = [name].into_iter().chain(std::iter::repeat(""));
            lines.extend(first.zip(filters));
        }
    };
    let with_qos = |filter: &String| match shown.qos(filter) {
        2 => filter.clone(),
        qos => format!("{filter}, QoS at most {qos}"),
    };
    topics("publish", publish.iter().map(with_qos).collect());
    topics("subscribe", subscribe.clone());
    lines.push(("root's SHA-256", root_fingerprint.clone()));
    lines.push(("root certificate", format!("{}: what the server's certificate must lead to", shown.file("root.pem"))));
    if shown.device_pem.is_some() {
        lines.push(("certificate", format!("{}: its own", shown.file("device.pem"))));
        lines.push(("chain", format!("{}: to be sent along with it", shown.file("chain.pem"))));
        let key = match shown.folder {
            Some((_, true)) => format!("{}: its private key, for its eyes only", shown.file("device.key")),
            Some((_, false)) => "not in that folder: the device made it, and has it".to_owned(),
            None => "not known to the ward: in its outfit, or with the device".to_owned(),
        };
        lines.push(("private key", key));
    }
    lines.iter().fold(String::new(), |mut text, (name, value)| {
        let _ = writeln!(text, "{name:<18} {value}");
        text
    })
}

/// How a client proves who it is.
pub(super) enum With<'s> {
    /// By the certificate and the key of its outfit.
    Certificate,
    /// By a token.
    Token(&'s str),
}

/// Options for the clients of mosquitto, and a block for its configuration on a gateway.
pub(super) fn mosquitto(shown: &Shown, with: &With<'_>) -> String {
    let Connect { device, host, port, client_id, user_name, publish, subscribe, .. } = &shown.connect;
    let root = shown.file("root.pem");
    let mut text = format!(
        "# {device} of {}: options for mosquitto_pub and mosquitto_sub, one a line as their configuration file has them\n\
         --host {host}\n--port {port}\n--id {client_id}\n--cafile {root}\n",
        shown.ward
    );
    let (certificate, key) = (shown.file("device.pem"), shown.file("device.key"));
    match with {
        With::Certificate => {
            let _ = writeln!(text, "--cert {certificate}\n--key {key}");
        }
        With::Token(token) => {
            let _ = writeln!(text, "--username {user_name}\n--pw {token}");
        }
    }
    let _ = writeln!(
        text,
        "\n# a bridge from a local broker, for mosquitto.conf: local topics are those of the guard\n\
         connection {device}\naddress {host}:{port}\nremote_clientid {client_id}\nbridge_protocol_version mqttv50\n\
         cleansession true\nnotifications false\ntry_private false\nbridge_cafile {root}"
    );
    match with {
        With::Certificate => {
            let _ = writeln!(text, "bridge_certfile {certificate}\nbridge_keyfile {key}");
        }
        With::Token(token) => {
            let _ = writeln!(text, "remote_username {user_name}\nremote_password {token}");
        }
    }
    for filter in publish {
        let _ = writeln!(text, "topic {filter} out {}", shown.qos(filter));
    }
    // A bridge makes no shared subscriptions.
    for filter in subscribe.iter().filter(|filter| !filter.starts_with("$share/")) {
        let _ = writeln!(text, "topic {filter} in 2");
    }
    text
}

/// A text as a C string literal.
fn literal(text: &str) -> String {
    let escaped: String = text
        .chars()
        .map(|each| match each {
            '"' => "\\\"".to_owned(),
            '\\' => "\\\\".to_owned(),
            // `??` begins a trigraph.
            '?' => "\\?".to_owned(),
            each => each.to_string(),
        })
        .collect();
    format!("\"{escaped}\"")
}

/// A PEM text as C string literals, a line each.
fn pem_literal(name: &str, pem: &str) -> String {
    let lines: Vec<String> = pem.lines().map(|line| format!("    \"{line}\\n\"")).collect();
    format!("static const char {name}[] =\n{};\n", lines.join("\n"))
}

/// Constants for a microcontroller, with the root in it.
pub(super) fn header(shown: &Shown) -> String {
    let Connect { device, host, port, client_id, user_name, publish, subscribe, root_fingerprint, .. } = &shown.connect;
    let guard: String =
        device.chars().map(|each| if each.is_ascii_alphanumeric() { each.to_ascii_uppercase() } else { '_' }).collect();
    let mut text = format!(
        "/* {device} of {}: how it connects. */\n#ifndef OUTFIT_{guard}_H\n#define OUTFIT_{guard}_H\n\n\
         #define MQTT_HOST {}\n#define MQTT_PORT {port}\n#define MQTT_CLIENT_ID {}\n",
        shown.ward.replace("*/", ""),
        literal(host),
        literal(client_id)
    );
    if shown.token_login || shown.token.is_some() {
        let _ = writeln!(text, "#define MQTT_USER_NAME {}", literal(user_name));
    }
    if let Some(token) = &shown.token {
        let _ = writeln!(text, "#define MQTT_PASSWORD {}", literal(token));
    }
    for (word, filters) in [("PUBLISH", publish), ("SUBSCRIBE", subscribe)] {
        let _ = writeln!(text, "#define MQTT_{word}_COUNT {}", filters.len());
        for (number, filter) in filters.iter().enumerate() {
            let _ = writeln!(text, "#define MQTT_{word}_{number} {}", literal(filter));
            if word == "PUBLISH" {
                let _ = writeln!(text, "#define MQTT_{word}_{number}_QOS {}", shown.qos(filter));
            }
        }
    }
    let _ = write!(text, "\n/* SHA-256 {root_fingerprint} */\n{}", pem_literal("mqtt_root_pem", &shown.root_pem));
    if let Some(device_pem) = &shown.device_pem {
        let chain = format!("{device_pem}{}", shown.chain_pem);
        let _ = write!(
            text,
            "\n/* Its certificate and those to be sent along; its private key stays where it is. */\n{}",
            pem_literal("mqtt_chain_pem", &chain)
        );
    }
    text.push_str("\n#endif\n");
    text
}

/// A value as a shell takes it, whatever stands in it.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// Variables for a shell, a service manager or a container.
pub(super) fn env(shown: &Shown) -> String {
    let Connect { host, port, client_id, user_name, publish, subscribe, root_fingerprint, .. } = &shown.connect;
    let mut all = vec![
        ("MQTT_HOST", host.clone()),
        ("MQTT_PORT", port.to_string()),
        ("MQTT_CLIENT_ID", client_id.clone()),
        ("MQTT_CA_FILE", shown.file("root.pem")),
        ("MQTT_ROOT_SHA256", root_fingerprint.clone()),
        ("MQTT_PUBLISH", publish.join(" ")),
        ("MQTT_SUBSCRIBE", subscribe.join(" ")),
    ];
    if shown.device_pem.is_some() {
        all.push(("MQTT_CERT_FILE", shown.file("device.pem")));
        all.push(("MQTT_CHAIN_FILE", shown.file("chain.pem")));
    }
    if let Some((_, true)) = shown.folder {
        all.push(("MQTT_KEY_FILE", shown.file("device.key")));
    }
    if shown.token_login || shown.token.is_some() {
        all.push(("MQTT_USER_NAME", user_name.clone()));
    }
    if let Some(token) = &shown.token {
        all.push(("MQTT_PASSWORD", token.clone()));
    }
    all.iter().fold(String::new(), |mut text, (name, value)| {
        let _ = writeln!(text, "{name}={}", quoted(value));
        text
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown() -> Shown {
        Shown {
            connect: Connect {
                errands: None,
                schema: String::new(),
                device: "tg-ossel-1".into(),
                host: "mqtt.example.org".into(),
                port: 8883,
                client_id: "tg-ossel-1".into(),
                user_name: "tg-ossel-1".into(),
                publish: vec!["rope/ossel/tg-ossel-1/guests".into()],
                publish_qos: [("rope/ossel/tg-ossel-1/guests".to_owned(), 1)].into(),
                subscribe: vec!["$share/g/a".into(), "rope/+/it's".into()],
                root_fingerprint: "00".into(),
            },
            kind: "turnstile".into(),
            state: "listed",
            ward: "North */ \"fleet\"".into(),
            root_pem: "-----BEGIN X-----\nAA\n-----END X-----\n".into(),
            chain_pem: String::new(),
            device_pem: None,
            folder: None,
            token: None,
            token_login: true,
        }
    }

    #[test]
    fn what_stands_in_a_value_ends_no_text_that_it_stands_in() {
        let mut all = shown();
        assert!(header(&all).contains("#define MQTT_SUBSCRIBE_1 \"rope/+/it's\""));
        assert!(!header(&all).lines().next().unwrap().trim_end_matches("*/").contains("*/"));
        assert!(env(&all).contains("MQTT_SUBSCRIBE='$share/g/a rope/+/it'\\''s'"));
        assert!(!mosquitto(&all, &With::Certificate).contains("topic $share"));
        assert!(mosquitto(&all, &With::Certificate).contains("topic rope/ossel/tg-ossel-1/guests out 1\n"));
        all.connect.publish = vec!["a\"b\\c??=".into()];
        assert!(header(&all).contains(r#"#define MQTT_PUBLISH_0 "a\"b\\c\?\?=""#));
    }

    #[test]
    fn a_secret_stands_where_it_was_asked_for() {
        let mut all = shown();
        for text in [card(&all), header(&all), env(&all), mosquitto(&all, &With::Certificate)] {
            assert!(!text.to_ascii_lowercase().contains("password"), "{text}");
        }
        all.token = Some("t.o.k".into());
        for text in [card(&all), header(&all), env(&all), mosquitto(&all, &With::Token("t.o.k"))] {
            assert!(text.contains("t.o.k"), "{text}");
        }
    }
}
