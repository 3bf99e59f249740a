//! Signed requests: the examples of RFC 9421 appendix B.2 and RFC 9530, what is signed here, and what is not good.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use porch_proof::{
    Message, PublicKey, Saying, Signed, SignedBy, Signer, SigningKey, digest_of, is_digest_of,
};
use ring::rand::SystemRandom;
use ring::signature::{
    ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair,
    KeyPair, RsaKeyPair,
};

/// A request of the test: its parts, and its fields.
struct Request {
    method: &'static str,
    scheme: &'static str,
    authority: &'static str,
    path: &'static str,
    query: Option<&'static str>,
    fields: Vec<(&'static str, &'static str)>,
}

impl Message for Request {
    fn method(&self) -> &str {
        self.method
    }
    fn scheme(&self) -> &str {
        self.scheme
    }
    fn authority(&self) -> &str {
        self.authority
    }
    fn path(&self) -> &str {
        self.path
    }
    fn query(&self) -> Option<&str> {
        self.query
    }
    fn field(&self, name: &str) -> Vec<&[u8]> {
        let own = self.fields.iter().filter(|(n, _)| *n == name);
        own.map(|(_, v)| v.as_bytes()).collect()
    }
}

const DIGEST: &str = "sha-512=:WZDPaVn/7XgHaAy8pmojAkGWoRx2UFChF41A2svX+TaPm+AbwAgBWnrIiYllu7BNNyealdVLvRwEmTHWXvJwew==:";

/// The request of RFC 9421 appendix B.2.
fn example() -> Request {
    Request {
        method: "POST",
        scheme: "https",
        authority: "example.com",
        path: "/foo",
        query: Some("param=Value&Pet=dog"),
        fields: vec![
            ("host", "example.com"),
            ("date", "Tue, 20 Apr 2021 02:07:55 GMT"),
            ("content-type", "application/json"),
            ("content-digest", DIGEST),
            ("content-length", "18"),
        ],
    }
}

fn bytes(text: &str) -> Box<[u8]> {
    STANDARD.decode(text).unwrap().into()
}

#[test]
fn the_examples_of_the_rfc_are_verified() {
    // B.2.6, with the key of B.1.4.
    let input = r#"sig-b26=("date" "@method" "@path" "@authority" "content-type" "content-length");created=1618884473;keyid="test-key-ed25519""#;
    let signature = "sig-b26=:wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==:";
    let signed = &Signed::read(input, signature).unwrap()[0];
    let base = signed.base(&example()).unwrap();
    assert_eq!(
        base,
        "\"date\": Tue, 20 Apr 2021 02:07:55 GMT\n\"@method\": POST\n\"@path\": /foo\n\"@authority\": example.com\n\"content-type\": application/json\n\"content-length\": 18\n\"@signature-params\": (\"date\" \"@method\" \"@path\" \"@authority\" \"content-type\" \"content-length\");created=1618884473;keyid=\"test-key-ed25519\""
    );
    let pem = "-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VwAyEAJrQLj5P/89iXES9+vFgrIy29clF9CC/oPPsw3c5D0bs=\n-----END PUBLIC KEY-----\n";
    let key = SigningKey::Public(PublicKey::read(pem).unwrap());
    assert!(signed.is_of(&key, SignedBy::Ed25519, &base));
    assert!(!signed.is_of(&key, SignedBy::Ed25519, &base.replace("foo", "fop")));
    assert_eq!(
        (signed.created, signed.expires, signed.keyid.as_str()),
        (Some(1618884473), None, "test-key-ed25519")
    );
    rsa_examples();
    // B.2.5, with the secret of B.1.5.
    let input = r#"sig-b25=("date" "@authority" "content-type");created=1618884473;keyid="test-shared-secret""#;
    let signature = "sig-b25=:pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=:";
    let signed = &Signed::read(input, signature).unwrap()[0];
    let base = signed.base(&example()).unwrap();
    let secret = SigningKey::Shared(bytes(
        "uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==",
    ));
    assert!(signed.is_of(&secret, SignedBy::Hmac, &base));
    assert!(!signed.is_of(&key, SignedBy::Hmac, &base));
    // RFC 9530 appendix D, by way of the request above.
    assert_eq!(is_digest_of(DIGEST, b"{\"hello\": \"world\"}"), Ok(()));
}

/// B.2.1 to B.2.3, with the key of B.1.2.
fn rsa_examples() {
    let key = SigningKey::Public(PublicKey::read(RSA_PSS).unwrap());
    for (input, signature) in [
        (
            r#"sig-b21=();created=1618884473;keyid="test-key-rsa-pss";nonce="b3k2pp5k7z-50gnwp.yemd""#,
            "sig-b21=:d2pmTvmbncD3xQm8E9ZV2828BjQWGgiwAaw5bAkgibUopemLJcWDy/lkbbHAve4cRAtx31Iq786U7it++wgGxbtRxf8Udx7zFZsckzXaJMkA7ChG52eSkFxykJeNqsrWH5S+oxNFlD4dzVuwe8DhTSja8xxbR/Z2cOGdCbzR72rgFWhzx2VjBqJzsPLMIQKhO4DGezXehhWwE56YCE+O6c0mKZsfxVrogUvA4HELjVKWmAvtl6UnCh8jYzuVG5WSb/QEVPnP5TmcAnLH1g+s++v6d4s8m0gCw1fV5/SITLq9mhho8K3+7EPYTU8IU1bLhdxO5Nyt8C8ssinQ98Xw9Q==:",
        ),
        (
            r#"sig-b22=("@authority" "content-digest" "@query-param";name="Pet");created=1618884473;keyid="test-key-rsa-pss";tag="header-example""#,
            "sig-b22=:LjbtqUbfmvjj5C5kr1Ugj4PmLYvx9wVjZvD9GsTT4F7GrcQEdJzgI9qHxICagShLRiLMlAJjtq6N4CDfKtjvuJyE5qH7KT8UCMkSowOB4+ECxCmT8rtAmj/0PIXxi0A0nxKyB09RNrCQibbUjsLS/2YyFYXEu4TRJQzRw1rLEuEfY17SARYhpTlaqwZVtR8NV7+4UKkjqpcAoFqWFQh62s7Cl+H2fjBSpqfZUJcsIk4N6wiKYd4je2U/lankenQ99PZfB4jY3I5rSV2DSBVkSFsURIjYErOs0tFTQosMTAoxk//0RoKUqiYY8Bh0aaUEb0rQl3/XaVe4bXTugEjHSw==:",
        ),
        (
            r#"sig-b23=("date" "@method" "@path" "@query" "@authority" "content-type" "content-digest" "content-length");created=1618884473;keyid="test-key-rsa-pss""#,
            "sig-b23=:bbN8oArOxYoyylQQUU6QYwrTuaxLwjAC9fbY2F6SVWvh0yBiMIRGOnMYwZ/5MR6fb0Kh1rIRASVxFkeGt683+qRpRRU5p2voTp768ZrCUb38K0fUxN0O0iC59DzYx8DFll5GmydPxSmme9v6ULbMFkl+V5B1TP/yPViV7KsLNmvKiLJH1pFkh/aYA2HXXZzNBXmIkoQoLd7YfW91kE9o/CCoC1xMy7JA1ipwvKvfrs65ldmlu9bpG6A9BmzhuzF8Eim5f8ui9eH8LZH896+QIF61ka39VBrohr9iyMUJpvRX2Zbhl5ZJzSRxpJyoEZAFL2FUo5fTIztsDZKEgM4cUA==:",
        ),
    ] {
        let signed = &Signed::read(input, signature).unwrap()[0];
        let base = signed.base(&example()).unwrap();
        assert!(signed.is_of(&key, SignedBy::RsaPss, &base), "{input}");
        assert!(!signed.is_of(&key, SignedBy::RsaV15, &base), "{input}");
    }
}

const RSA_PSS: &str = include_str!("rsa-pss-public.pem");

/// The line of a component.
fn of(request: &Request, component: &str) -> Result<String, String> {
    let signed = Signed::read(&format!("s=({component});keyid=\"k\""), "s=:AA==:")?;
    let base = signed[0].base(request)?;
    Ok(base.lines().next().unwrap_or_default().to_owned())
}

/// The example, with fields of several values and of none.
fn with_fields() -> Request {
    let mut request = example();
    let more = [
        ("x-a", " one "),
        ("x-a", "two, three"),
        ("x-empty", ""),
        ("x-latin", "é"),
        ("priority", "  u=2 ,   i=?1 "),
    ];
    request.fields.extend(more);
    request
}

#[test]
fn every_component_of_a_request_is_what_the_rfc_says() {
    let request = with_fields();
    for (component, wanted) in [
        ("\"@method\"", "\"@method\": POST"),
        (
            "\"@target-uri\"",
            "\"@target-uri\": https://example.com/foo?param=Value&Pet=dog",
        ),
        ("\"@scheme\"", "\"@scheme\": https"),
        (
            "\"@request-target\"",
            "\"@request-target\": /foo?param=Value&Pet=dog",
        ),
        ("\"@query\"", "\"@query\": ?param=Value&Pet=dog"),
        (
            "\"@query-param\";name=\"Pet\"",
            "\"@query-param\";name=\"Pet\": dog",
        ),
        ("\"x-a\"", "\"x-a\": one, two, three"),
        ("\"x-empty\"", "\"x-empty\": "),
        ("\"priority\";sf", "\"priority\";sf: u=2, i"),
        ("\"priority\";key=\"u\"", "\"priority\";key=\"u\": 2"),
        ("\"priority\";key=\"i\"", "\"priority\";key=\"i\": ?1"),
        ("\"x-a\";bs", "\"x-a\";bs: :b25l:, :dHdvLCB0aHJlZQ==:"),
        ("\"x-latin\";bs", "\"x-latin\";bs: :w6k=:"),
    ] {
        assert_eq!(of(&request, component).as_deref(), Ok(wanted));
    }
    let bare = Request {
        authority: "EXAMPLE.com:443",
        query: None,
        path: "",
        ..example()
    };
    assert_eq!(
        of(&bare, "\"@authority\"").unwrap(),
        "\"@authority\": example.com"
    );
    assert_eq!(of(&bare, "\"@query\"").unwrap(), "\"@query\": ?");
    assert_eq!(of(&bare, "\"@path\"").unwrap(), "\"@path\": /");
}

/// Examples of §2.1 and §2.2.8.
#[test]
fn the_examples_of_components_are_what_the_rfc_says() {
    let request = Request {
        query: Some(
            "var=this%20is%20a%20big%0Amultiline%20value&bar=with+plus+whitespace&fa%C3%A7ade%22%3A%20=something&q=%7e~*",
        ),
        fields: vec![
            ("example-dict", "  a=1,    b=2;x=1;y=2,   c=(a   b   c)"),
            ("example-flag", "a=1, b=2;x=1;y=2, c=(a b c), d"),
            ("example-header", "value, with, lots"),
            ("example-header", "of, commas"),
        ],
        ..example()
    };
    for (component, wanted) in [
        (
            "\"@query-param\";name=\"var\"",
            "this%20is%20a%20big%0Amultiline%20value",
        ),
        ("\"@query-param\";name=\"bar\"", "with%20plus%20whitespace"),
        (
            "\"@query-param\";name=\"fa%C3%A7ade%22%3A%20\"",
            "something",
        ),
        ("\"@query-param\";name=\"q\"", "%7E%7E*"),
        ("\"example-dict\";key=\"a\"", "1"),
        ("\"example-flag\";key=\"d\"", "?1"),
        ("\"example-dict\";key=\"b\"", "2;x=1;y=2"),
        ("\"example-dict\";key=\"c\"", "(a b c)"),
        ("\"example-header\"", "value, with, lots, of, commas"),
        (
            "\"example-header\";bs",
            ":dmFsdWUsIHdpdGgsIGxvdHM=:, :b2YsIGNvbW1hcw==:",
        ),
    ] {
        let line = format!("{component}: {wanted}");
        assert_eq!(of(&request, component), Ok(line));
    }
}

#[test]
fn components_that_mean_nothing_here_are_refused() {
    let request = with_fields();
    for (component, part) in [
        ("\"@status\"", "not known here"),
        ("\"x-b\"", "not there"),
        ("\"X-A\"", "lower case"),
        ("\"x-a\";sf", "is not known, so that “sf” means nothing"),
        ("\"content-type\";key=\"b\"", "is not well formed"),
        ("\"priority\";key=\"b\"", "has no member “b”"),
        ("\"priority\";key=b", "a “key” that is none"),
        ("\"priority\";sf;bs", "not both"),
        ("\"priority\";sf=?0", "a “sf” that is none"),
        ("\"priority\";other", "“other” is not known here"),
        ("\"x-a\";tr", "is a trailer"),
        ("\"x-a\";req", "for signatures of responses"),
        ("\"@method\";req", "for signatures of responses"),
        ("\"@method\";sf", "“sf” is not known here"),
        ("\"x-latin\"", "is no text"),
        ("\"@query-param\"", "says which"),
        ("\"@query-param\";name=\"no\"", "not there"),
        ("\"@method\" \"@method\"", "signed twice"),
        ("token", "no text"),
    ] {
        let told = of(&request, component).unwrap_err();
        assert!(told.contains(part), "{component}: {told}");
    }
    let twice = Request {
        query: Some("a=1&a=2"),
        ..example()
    };
    assert!(
        of(&twice, "\"@query-param\";name=\"a\"")
            .unwrap_err()
            .contains("several times")
    );
}

const RSA: &str = include_str!("rsa.pem");

fn pem(name: &str, der: &[u8]) -> String {
    format!(
        "-----BEGIN {name}-----\n{}\n-----END {name}-----\n",
        STANDARD.encode(der)
    )
}

/// `SubjectPublicKeyInfo` of a key, by hand.
fn info(algorithm: &[u8], key: &[u8]) -> String {
    let wrap = |tag: u8, inner: &[u8]| {
        let length = inner.len() as u16;
        let mut out = vec![tag, 0x82];
        out.extend(length.to_be_bytes());
        out.extend(inner);
        out
    };
    let bits = wrap(0x03, &[&[0], key].concat());
    let all = wrap(0x30, &[wrap(0x30, algorithm), bits].concat());
    pem("PUBLIC KEY", &all)
}

/// Keys of a kind: the private one, and the public one where it is not shared.
type Keys = (SignedBy, String, Option<String>);

/// One for each algorithm.
fn keys_of_all() -> Vec<Keys> {
    let random = SystemRandom::new();
    let edwards = Ed25519KeyPair::generate_pkcs8(&random).unwrap();
    let p256 = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
    let p384 = EcdsaKeyPair::generate_pkcs8(&ECDSA_P384_SHA384_FIXED_SIGNING, &random).unwrap();
    let point = |algorithm, pkcs8: &[u8]| {
        let pair = EcdsaKeyPair::from_pkcs8(algorithm, pkcs8, &random).unwrap();
        pair.public_key().as_ref().to_vec()
    };
    let curve = [0x06, 0x07, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02, 0x01];
    let of_256 = [
        &curve[..],
        &[0x06, 0x08, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07],
    ]
    .concat();
    let of_384 = [&curve[..], &[0x06, 0x05, 0x2b, 0x81, 0x04, 0x00, 0x22]].concat();
    let rsa_name = [
        0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01, 0x05, 0x00,
    ];
    let der = STANDARD
        .decode(
            RSA.lines()
                .filter(|l| !l.starts_with('-'))
                .collect::<String>(),
        )
        .unwrap();
    let rsa = RsaKeyPair::from_pkcs8(&der).unwrap();
    let own = Ed25519KeyPair::from_pkcs8(edwards.as_ref()).unwrap();
    let of = |by, private: &[u8], public: String| (by, pem("PRIVATE KEY", private), Some(public));
    let edwards_name = [0x06, 0x03, 0x2b, 0x65, 0x70];
    let rsa_public = info(&rsa_name, rsa.public().as_ref());
    vec![
        (SignedBy::Hmac, "low water at noon".to_owned(), None),
        of(
            SignedBy::Ed25519,
            edwards.as_ref(),
            info(&edwards_name, own.public_key().as_ref()),
        ),
        of(
            SignedBy::P256,
            p256.as_ref(),
            info(
                &of_256,
                &point(&ECDSA_P256_SHA256_FIXED_SIGNING, p256.as_ref()),
            ),
        ),
        of(
            SignedBy::P384,
            p384.as_ref(),
            info(
                &of_384,
                &point(&ECDSA_P384_SHA384_FIXED_SIGNING, p384.as_ref()),
            ),
        ),
        (SignedBy::RsaPss, RSA.to_owned(), Some(rsa_public.clone())),
        (SignedBy::RsaV15, RSA.to_owned(), Some(rsa_public)),
    ]
}

#[test]
fn what_is_signed_here_is_verified_here_and_no_other_key_or_algorithm_does() {
    let keys = keys_of_all();
    let read: Vec<(SignedBy, SigningKey)> = keys
        .iter()
        .map(|(by, _, public)| match public {
            None => (*by, SigningKey::Shared(b"low water at noon"[..].into())),
            Some(pem) => (*by, SigningKey::Public(PublicKey::read(pem).unwrap())),
        })
        .collect();
    for (by, private, _) in &keys {
        let signer = Signer::of(*by, private.as_bytes()).unwrap();
        let saying = Saying {
            keyid: "kiosk \"one\"",
            created: 1_800_000_000,
            nonce: "n1",
            tag: Some("skerry"),
        };
        let components = ["@method", "@target-uri", "content-digest"];
        let (input, signature) = signer.sign(&example(), &components, &saying).unwrap();
        let signed = &Signed::read(&input, &signature).unwrap()[0];
        assert_eq!(
            (
                signed.by,
                signed.keyid.as_str(),
                signed.nonce.as_deref(),
                signed.tag.as_deref()
            ),
            (Some(*by), "kiosk \"one\"", Some("n1"), Some("skerry"))
        );
        assert!(signed.covers("@method") && !signed.covers("@path"));
        let base = signed.base(&example()).unwrap();
        for (other, key) in &read {
            let wanted = other == by;
            assert_eq!(signed.is_of(key, *other, &base), wanted, "{by:?} {other:?}");
        }
        let changed = Request {
            method: "PUT",
            ..example()
        };
        let base = signed.base(&changed).unwrap();
        assert!(
            read.iter()
                .all(|(other, key)| !signed.is_of(key, *other, &base))
        );
    }
}

#[test]
fn keys_that_are_of_another_kind_or_none_are_refused() {
    let edwards = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).unwrap();
    let edwards = pem("PRIVATE KEY", edwards.as_ref());
    assert!(Signer::of(SignedBy::P256, edwards.as_bytes()).is_err());
    assert!(Signer::of(SignedBy::Ed25519, b"nothing").is_err());
    for (bad, part) in [
        (RSA, "private key"),
        ("{\"kty\":\"OKP\",\"d\":\"x\"}", "private key"),
        ("{", "no JSON"),
        ("{\"kty\":\"oct\"}", "no public key that is known"),
        ("hello", "neither"),
        (
            "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----",
            "no public key that is known",
        ),
    ] {
        let told = PublicKey::read(bad).unwrap_err();
        assert!(told.contains(part), "{bad}: {told}");
    }
}

#[test]
fn signatures_that_say_too_little_or_too_much_are_none() {
    let components: String = (0..51).map(|i| format!("\"x-{i}\" ")).collect();
    let large = "x".repeat(70 << 10);
    for (input, signature, part) in [
        ("", "", "no signature"),
        ("s=(\"@method\");keyid=\"k\"", "", "has no signature"),
        (
            "s=(\"@method\");keyid=\"k\"",
            "t=:AA==:",
            "has no signature",
        ),
        (
            "s=(\"@method\");keyid=\"k\"",
            "s=\"AA==\"",
            "has no signature",
        ),
        ("s=(\"@method\")", "s=:AA==:", "names no key"),
        ("s=(\"@method\");keyid=7", "s=:AA==:", "no text"),
        (
            "s=(\"@method\");keyid=\"k\";created=\"now\"",
            "s=:AA==:",
            "no time",
        ),
        (
            "s=(\"@method\");keyid=\"k\";alg=\"none\"",
            "s=:AA==:",
            "no algorithm",
        ),
        ("s=\"@method\";keyid=\"k\"", "s=:AA==:", "no list"),
        (
            &format!("s=({components});keyid=\"k\""),
            "s=:AA==:",
            "components",
        ),
        (&large, "s=:AA==:", "bytes"),
        ("s=(\"@method\"", "s=:AA==:", "Signature-Input"),
        ("s=(\"@method\");keyid=\"k\"", "s=:A", "Signature:"),
    ] {
        let told = Signed::read(input, signature).unwrap_err();
        assert!(told.contains(part), "{told}");
    }
}

#[test]
fn digests_are_compared_each_of_them() {
    let body = b"crate 17";
    let own = digest_of(body);
    assert_eq!(is_digest_of(&own, body), Ok(()));
    assert!(
        is_digest_of(&own, b"crate 18")
            .unwrap_err()
            .contains("not what its digest")
    );
    assert_eq!(is_digest_of(&format!("md5=:AA==:, {own}"), body), Ok(()));
    for (field, part) in [
        ("md5=:AA==:".to_owned(), "no digest by sha-256 or sha-512"),
        (String::new(), "no digest by sha-256 or sha-512"),
        ("sha-256=\"AA\"".to_owned(), "no bytes"),
        (
            format!("{own}, sha-512=:AA==:"),
            "not what its digest “sha-512” says",
        ),
        ("sha-256=:A".to_owned(), "Content-Digest"),
    ] {
        let told = is_digest_of(&field, body).unwrap_err();
        assert!(told.contains(part), "{field}: {told}");
    }
}
