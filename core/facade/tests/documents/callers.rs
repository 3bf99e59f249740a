//! Who may call, and how much: each mistake where it stands, and what the rules of an operation say.

use super::*;

const FACADE: &str = "timetable/timetable.facade.yaml";

/// All that is found once the facade admits by a text, in short.
fn found(text: &str) -> Vec<String> {
    let before = "contract: timetable.openapi.yaml\n";
    let all = changed(FACADE, before, &format!("{before}admit:\n\n\n  {text}\n"));
    let told = |f: &Finding| format!("{}:{} {} ({})", f.line, f.column, f.message, f.help);
    all.iter().map(told).collect()
}

#[test]
fn what_is_wrong_with_callers_and_limits_is_told_where_it_stands() {
    let mut wrong = Vec::new();
    for (text, expected) in [
        (
            "limits: [{ requests: =terms.requests, window: 1m, per: address }]",
            "",
        ),
        (
            "limits: [{ requests: '=terms.?requests.orValue(20)', window: 1m, per: address }]",
            "",
        ),
        ("limits: [{ bytes: 5MiB, window: 1m, per: everyone }]", ""),
        (
            "limits: [{ at-once: 5, waiting: 20, within: 2s, per: everyone }]",
            "",
        ),
        (
            "limits: [{ requests: 7, window: 1m, per: everyone, apart: refuse }]",
            "",
        ),
        ("limits: [{ at-once: 7, per: everyone, apart: refuse }]", ""),
        (
            "limits: [{ requests: 600, window: 1m, per: facade, smooth: true, burst: 20, weight: 2 }]",
            "",
        ),
        (
            "quotas: [{ requests: 10000, each: month, zone: Europe/Oslo, per: everyone, warn-at: [50] }]",
            "",
        ),
        (
            "quotas: [{ bytes: =terms.bytes, each: day, from: agreement, per: address, end: tell }]",
            "",
        ),
        (
            "limits: [{ window: 1m, per: address }]",
            "9:12 a limit says one of `requests`, `bytes` and `at-once` (write { requests: 60, window: 1m })",
        ),
        (
            "limits: [{ requests: 5, bytes: 5, window: 1m, per: address }]",
            "9:12 a limit says one of `requests`, `bytes` and `at-once` (write { requests: 60, window: 1m })",
        ),
        (
            "limits: [{ requests: 5, per: address }]",
            "9:12 “window” is missing (as in `window: 1m`)",
        ),
        (
            "limits: [{ requests: 5, window: 1m }]",
            "9:12 a limit per consumer needs callers that are known (add `credentials: [key]`, or count `per: address` or `per: everyone`)",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: account }]",
            "9:12 a limit per account needs callers that are known (add `credentials: [key]`, or count `per: address` or `per: everyone`)",
        ),
        (
            "limits: [{ requests: many, window: 1m, per: address }]",
            "9:24 “many” is a text; a whole number is expected here ()",
        ),
        (
            "limits: [{ requests: =body.n, window: 1m, per: address }]",
            "9:24 limits look at no bodies and no secrets (use path, query, header fields, caller and terms)",
        ),
        (
            "limits: [{ requests: =trems.n, window: 1m, per: address }]",
            "9:25 “trems” is not known here; did you mean “terms”? ()",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: \"=header[?'x-desk']\" }]",
            "9:44 callers for whom this has no value share one count (say what stands in its place with `.orValue(…)`)",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: \"=header['x-desk']\" }]",
            "9:52 “x-desk” may be absent (say what happens then: header[?'x-desk'] leaves it out, header[?'x-desk'].orValue(…) puts something in its place)",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: address, weight: 6 }]",
            "9:61 a request that counts 6 never fits into 5 ()",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: address, burst: 2 }]",
            "9:60 “burst” has no meaning here (it is for limits with `smooth`)",
        ),
        (
            "limits: [{ requests: 5, window: 1m, per: address, waiting: 2 }]",
            "9:62 “waiting” has no meaning here (it is for limits with `at-once`)",
        ),
        (
            "limits: [{ at-once: 5, window: 1m, per: address }]",
            "9:34 “window” has no meaning here (it is for limits with `requests`)",
        ),
        (
            "limits: [{ at-once: 5, waiting: 10001, per: address }]",
            "9:35 10001 that wait are too many: 10000 are the most ()",
        ),
        (
            "quotas: [{ requests: 5, each: year, per: address }]",
            "9:33 “year” is not known here (known are hour, day, week, month)",
        ),
        (
            "quotas: [{ requests: 5, each: day, zone: Farholt, per: address }]",
            "9:44 “Farholt” is no time zone (zones have the names of the IANA database, as in Europe/Oslo)",
        ),
        (
            "quotas: [{ requests: 5, each: day, warn-at: [0, 120], per: address }]",
            "9:47 shares are from 1 to 100 per cent (as in `warn-at: [80, 100]`)",
        ),
        (
            "quotas: [{ each: day, per: address }]",
            "9:12 a quota says one of `requests` and `bytes` (write { requests: 10000, each: month })",
        ),
        (
            "quotas: [{ requests: 0, each: day, per: address }]",
            "9:12 a quota of 0 lets nobody pass (pause the operation instead)",
        ),
        (
            "roles: [clerk]",
            "9:10 roles need callers that are known (add `credentials: [key]`)",
        ),
        (
            "roles: []\n  credentials: [key]",
            "9:10 0 roles, and 1 to 50 can stand here (leave `roles` out where every caller may call)",
        ),
        (
            "roles: ['harbour master']\n  credentials: [key]",
            "9:11 “harbour master” is no name of a role (roles have 1 to 64 letters, digits, dots, colons, hyphens and underscores)",
        ),
        (
            "credentials: [keys]",
            "9:17 “keys” is not known here (known are key, basic, token, signature, certificate)",
        ),
        (
            "credentials: [{ key: { in: heder } }]",
            "9:30 “heder” is not known here (known are header, bearer, query)",
        ),
        (
            "credentials: [{ key: { in: query } }]",
            "9:30 keys in the query are seen in logs, histories and links (callers who can should send it in a header field)",
        ),
        (
            "credentials: [{ key: { name: Authorization } }]",
            "9:32 “Authorization” has a meaning of its own (give a field of its own, or `in: bearer` for `Authorization`)",
        ),
        (
            "credentials: [{ key: { name: 'a b' } }]",
            "9:32 “a b” is no name of a header field (RFC 9110 §5.1)",
        ),
        (
            "credentials: [{ key: { in: bearer, name: x } }]",
            "9:44 a bearer token has no name of its own (it stands in `Authorization` (RFC 6750 §2.1))",
        ),
        (
            "credentials: [{ key: {}, basic: {} }]",
            "9:17 each kind of credential stands in an item of its own ()",
        ),
        (
            "credentials: [{ token: { issuer: 'http://127.0.0.1:1', audience: me } }]",
            "",
        ),
        (
            "credentials: [{ token: { issuer: crew, keys: 'http://127.0.0.1:1/keys', audience: [me, us], consumer: =claims.azp, roles: '=claims.?roles', algorithms: [PS512], types: ['', JWT], skew: 1m } }]",
            "",
        ),
        (
            "credentials: [token]",
            "9:17 a token says whose it is: write { token: { issuer: …, audience: … } } ()",
        ),
        (
            "credentials: [{ token: { issuer: x } }]",
            "9:19 “audience” is missing ()",
        ),
        (
            "credentials: [{ token: { issuer: crew, audience: me } }]",
            "9:36 “crew/.well-known/openid-configuration” is no address that can be called: http:// and https:// are (its keys are asked for at its address; say where they are with `keys:` where it is none)",
        ),
        (
            "credentials: [{ token: { issuer: 'http://127.0.0.1:1', audience: me, algorithms: [HS256] } }]",
            "9:85 “HS256” is no algorithm of signatures with public keys (did you mean “ES256”?)",
        ),
        (
            "credentials: [{ token: { issuer: 'http://127.0.0.1:1', audience: [] } }]",
            "9:68 tokens are for somebody: a name of this API (what others are shown is not taken here (RFC 9068 §4))",
        ),
        (
            "credentials: [{ token: { issuer: 'http://login.skerry.example', audience: me } }]",
            "9:36 whoever is on the way could put keys of their own in their place (ask for them by https)",
        ),
        (
            "credentials: [{ token: { issuer: 'http://127.0.0.1:1', audience: me, roles: =claim.scope } }]",
            "9:80 “claim” is not known here; did you mean “claims”? ()",
        ),
        (
            "credentials: [{ token: { issuer: 'http://127.0.0.1:1', audience: me, consumer: azp } }]",
            "9:82 “azp” is no expression (write `=azp`, or `=claims.azp`)",
        ),
        ("credentials: [signature]", ""),
        ("credentials: [certificate]", ""),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, introspect: { at: 'https://x.example/i', client: gate, secret: { secret: login } } } }]",
            "",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, types: [JWT], introspect: { at: 'nowhere', client: gate, secret: { secret: login }, remember: 1h } } }]",
            "9:78 “types” has no meaning where the issuer is asked of each token (leave it out, or `introspect`)",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, introspect: { at: 'https://x.example/i', client: gate, secret: tide } } }]",
            "9:134 “tide” is a text; an object is expected here ()",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, trust: none.pem } }]",
            "9:78 there is no file “timetable/none.pem” ()",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, trust: timetable.openapi.yaml } }]",
            "9:78 “timetable/timetable.openapi.yaml” holds no certificates in PEM ()",
        ),
        (
            "credentials: [{ certificate: { authorities: none.pem } }]",
            "9:47 there is no file “timetable/none.pem” ()",
        ),
        (
            "credentials: [{ certificate: { authorities: timetable.openapi.yaml } }]",
            "9:47 it cannot be used: it holds no certificate in PEM ()",
        ),
        (
            "credentials: [{ certificate: { revoked: none.pem } }]",
            "9:43 what nobody signed is not revoked (say whose list it is with `authorities`)",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, bound: [dpop, certificate] } }]",
            "",
        ),
        (
            "credentials: [{ token: { issuer: 'https://x.example', audience: me, bound: [] } }]",
            "9:78 tokens that must be bound are so in some way (write `bound: [dpop]`, or leave it out)",
        ),
        (
            "credentials: [{ signature: { covers: ['@target-uri', date], within: 1m, skew: 5s, nonce: true, digest: false, algorithms: [ed25519], tag: skerry } }]",
            "",
        ),
        (
            "credentials: [{ signature: { covers: ['@metod'] } }]",
            "9:41 “@metod” is no component (RFC 9421 §2.2) (did you mean “@method”?)",
        ),
        (
            "credentials: [{ signature: { covers: [Date] } }]",
            "9:41 “Date” is no name of a field in lower case (RFC 9421 §2.1)",
        ),
        (
            "credentials: [{ signature: { covers: [] } }]",
            "9:40 0 components, and 1 to 30 can be demanded (what is not signed can be changed on the way)",
        ),
        (
            "credentials: [{ signature: { algorithms: [ed25518] } }]",
            "9:45 “ed25518” is no algorithm of signatures (did you mean “ed25519”?)",
        ),
        (
            "credentials: [{ signature: { within: 2d } }]",
            "9:40 a signature is good for a second to a day (as in `within: 5m`)",
        ),
        (
            "credentials: [{ basic: { realm: x } }]",
            "9:28 “realm” is not known here (known here: )",
        ),
    ] {
        let all = found(text);
        let fits = match expected {
            "" => all.is_empty(),
            expected => all.iter().filter(|f| *f == expected).count() == 1,
        };
        if !fits {
            wrong.push(format!("{text}\n{all:#?}\n{expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}
