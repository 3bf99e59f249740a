use super::*;

fn one(text: &str) -> Call {
    let mut all = read_commands(text).unwrap();
    assert_eq!(all.len(), 1, "{text}");
    all.remove(0)
}

fn body(call: &Call) -> &str {
    std::str::from_utf8(call.body.as_deref().unwrap_or_default()).unwrap()
}

#[test]
fn a_command_is_read_as_it_would_be_carried_out() {
    let call = one(
        "curl -sS -X PUT 'http://tt.example/v2/berths/N7?dry=1#top' \\\n  -H 'Content-Type: application/json' \\\n  -H \"API-Key: abc\" --data-raw '{\"length\": 31}' | jq .",
    );
    assert_eq!(
        (call.method.as_str(), call.url.as_str()),
        ("PUT", "http://tt.example/v2/berths/N7?dry=1")
    );
    assert_eq!(field(&call.fields, "api-key"), Some("abc"));
    assert_eq!(body(&call), "{\"length\": 31}");
    let get = one("curl -G tt.example/tt -d r=FAR-MAR --data-urlencode 'day=14 May'");
    assert_eq!(
        (get.method.as_str(), get.url.as_str()),
        ("GET", "http://tt.example/tt?r=FAR-MAR&day=14%20May")
    );
    let form = one("curl https://tt.example -d a=1 -d b=2");
    assert_eq!((form.method.as_str(), body(&form)), ("POST", "a=1&b=2"));
    assert_eq!(
        field(&form.fields, "content-type"),
        Some("application/x-www-form-urlencoded")
    );
    let json = one("curl --json '{}' --url=http://tt.example/x -XPATCH");
    assert_eq!(
        (json.method.as_str(), field(&json.fields, "content-type")),
        ("PATCH", Some("application/json"))
    );
    let parts = one("curl -F name=Ina -F 'note=a b' http://tt.example/x");
    assert!(
        body(&parts).contains("name=\"note\"\r\n\r\na b\r\n"),
        "{}",
        body(&parts)
    );
    assert_eq!(one("$ curl -I http://tt.example/").method, "HEAD");
}

#[test]
fn logins_become_an_authorization_and_white_space_goes() {
    for text in [
        "curl -u ' desk:light ' http://h/",
        "curl -udesk:light http://h/",
        "curl http://desk:li%67ht@h/",
    ] {
        let call = one(text);
        assert_eq!(
            field(&call.fields, "authorization"),
            Some("Basic ZGVzazpsaWdodA=="),
            "{text}"
        );
        assert_eq!(call.url, "http://h/");
    }
    let bearer = one("curl --oauth2-bearer t0k http://h/");
    assert_eq!(field(&bearer.fields, "authorization"), Some("Bearer t0k"));
}

#[test]
fn several_commands_are_several_samples() {
    let all = read_commands(
        "curl http://h/a\n\n# and\ncurl http://h/b > b.json; curl h/c 2>&1 | jq '.x'",
    )
    .unwrap();
    let urls: Vec<&str> = all.iter().map(|c| c.url.as_str()).collect();
    assert_eq!(urls, ["http://h/a", "http://h/b", "http://h/c"]);
}

#[test]
fn what_is_not_followed_is_told_and_what_cannot_be_is_refused() {
    let call = one("curl -kL --proxy http://p --made-up http://h/");
    assert_eq!(call.told.len(), 4, "{:?}", call.told);
    for (text, part) in [
        ("curl", "no address"),
        ("curl -d @body.json http://h/", "files"),
        ("curl http://h/ http://i/", "two addresses"),
        ("curl ftp://h/", "ftp"),
        ("curl -H 'no field' http://h/", "no header field"),
        ("curl -X 'G T' http://h/", "no method"),
        ("curl http://h/ -H", "needs a value"),
        ("wget http://h/", "no sample call"),
        ("curl http:///x", "no host"),
    ] {
        let told = read_commands(text).unwrap_err();
        assert!(told.message.contains(part), "{text}: {told}");
    }
    let secret = read_commands("curl -H 'Key value:hidden' http://h/").unwrap_err();
    assert!(!secret.to_string().contains("hidden"), "{secret}");
}
