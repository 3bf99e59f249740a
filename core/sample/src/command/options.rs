//! The options of commands, as far as they say something of the request.

/// How the data of a request is written.
#[derive(Clone, Copy)]
pub(super) enum Data {
    /// Line ends are taken out.
    Plain,
    Raw,
    Encoded,
    Json,
}

/// What an option means.
pub(super) enum Meaning {
    Method,
    Field,
    Data(Data),
    Form {
        literal: bool,
    },
    Login,
    Bearer,
    Cookie,
    Url,
    Agent,
    Referrer,
    InQuery,
    Head,
    /// Nothing for the request itself.
    Nothing {
        value: bool,
    },
    /// Something that is not followed.
    NotFollowed {
        value: bool,
        why: &'static str,
    },
}

/// The options, long and short.
pub(super) fn meaning(name: &str) -> Option<Meaning> {
    use Meaning::*;
    Some(match name {
        "X" | "request" => Method,
        "H" | "header" => Field,
        "d" | "data" | "data-ascii" => Data(self::Data::Plain),
        "data-raw" | "data-binary" => Data(self::Data::Raw),
        "data-urlencode" => Data(self::Data::Encoded),
        "json" => Data(self::Data::Json),
        "F" | "form" => Form { literal: false },
        "form-string" => Form { literal: true },
        "u" | "user" => Login,
        "oauth2-bearer" => Bearer,
        "b" | "cookie" => Cookie,
        "url" => Url,
        "A" | "user-agent" => Agent,
        "e" | "referer" => Referrer,
        "G" | "get" => InQuery,
        "I" | "head" => Head,
        "s" | "silent" | "S" | "show-error" | "v" | "verbose" | "i" | "include"
        | "show-headers" | "f" | "fail" | "fail-with-body" | "compressed" | "N" | "no-buffer"
        | "basic" | "O" | "remote-name" | "J" | "remote-header-name" | "no-progress-meter"
        | "progress-bar" | "#" | "g" | "globoff" | "http1.1" | "http2" | "0" | "http1.0" | "4"
        | "6" | "ipv4" | "ipv6" | "path-as-is" | "anyauth" => Nothing { value: false },
        "o" | "output" | "m" | "max-time" | "connect-timeout" | "w" | "write-out" | "retry"
        | "retry-delay" | "retry-max-time" | "max-redirs" | "D" | "dump-header" | "c"
        | "cookie-jar" | "stderr" | "trace" | "trace-ascii" | "limit-rate" => {
            Nothing { value: true }
        }
        "L" | "location" => NotFollowed {
            value: false,
            why: "redirects are not followed",
        },
        "k" | "insecure" => NotFollowed {
            value: false,
            why: "certificates are checked all the same",
        },
        "x" | "proxy" => NotFollowed {
            value: true,
            why: "no proxy is used",
        },
        "cacert" | "capath" => NotFollowed {
            value: true,
            why: "say whose signatures are trusted with the backend's `trust`",
        },
        "E" | "cert" | "key" | "cert-type" | "key-type" | "pass" => NotFollowed {
            value: true,
            why: "no client certificate is shown",
        },
        "resolve" | "connect-to" | "interface" | "unix-socket" => NotFollowed {
            value: true,
            why: "the address is asked as it stands",
        },
        "digest" | "ntlm" | "negotiate" => NotFollowed {
            value: false,
            why: "the Basic scheme is used",
        },
        "T" | "upload-file" | "K" | "config" | "n" | "netrc" | "r" | "range" => return None,
        _ => return None,
    })
}

impl Meaning {
    pub(super) fn takes_value(&self) -> bool {
        match self {
            Self::InQuery | Self::Head => false,
            Self::Nothing { value } | Self::NotFollowed { value, .. } => *value,
            _ => true,
        }
    }
}
