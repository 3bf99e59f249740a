//! Definitions by HTTP: what is followed, and every bound.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use axum::Router;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use porch_fetch::{Allowed, FetchError, fetch, login, names_local, offers, only_own, sample};

type Answers = Arc<dyn Fn(&str, &HeaderMap) -> Response + Send + Sync>;

/// A server on loopback that answers as told, and counts.
async fn serve(
    answers: impl Fn(&str, &HeaderMap) -> Response + Send + Sync + 'static,
) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let count = Arc::new(AtomicUsize::new(0));
    let counted = count.clone();
    let answers: Answers = Arc::new(move |path, headers| {
        counted.fetch_add(1, Ordering::Relaxed);
        answers(path, headers)
    });
    let handler = |State(answers): State<Answers>, uri: Uri, headers: HeaderMap| async move {
        answers(uri.path_and_query().map_or("", |p| p.as_str()), &headers)
    };
    let router = Router::new().fallback(handler).with_state(answers);
    tokio::spawn(async move { axum::serve(listener, router).await });
    (address, count)
}

fn schema(imports: &[&str]) -> String {
    let imports: String = imports
        .iter()
        .map(|i| format!("<x:import namespace='urn:a' schemaLocation='{i}'/>"))
        .collect();
    format!("<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema'>{imports}</x:schema>")
}

fn wsdl(imports: &[&str]) -> String {
    format!(
        "<definitions xmlns='http://schemas.xmlsoap.org/wsdl/'><types>{}</types></definitions>",
        schema(imports)
    )
}

fn local() -> Allowed {
    Allowed {
        local: true,
        ..Allowed::default()
    }
}

#[tokio::test]
async fn imports_are_followed_wherever_they_are_relative_to_circles_and_all() {
    let (address, count) = serve(|path, _| match path {
        "/svc/desk?wsdl" => wsdl(&[
            "?xsd=1&amp;v=2",
            "../types/a.xsd",
            "http://www.w3.org/2001/xml.xsd",
            "lost.xsd",
        ])
        .into_response(),
        "/svc/desk?xsd=1&v=2" => schema(&["desk?wsdl"]).into_response(),
        "/types/a.xsd" => schema(&["b.xsd"]).into_response(),
        "/types/b.xsd" => schema(&["a.xsd"]).into_response(),
        _ => StatusCode::NOT_FOUND.into_response(),
    })
    .await;
    let fetched = fetch(&format!(" http://{address}/svc/desk?wsdl\n"), &local())
        .await
        .unwrap();
    let names: Vec<String> = fetched
        .source
        .files
        .keys()
        .map(|n| n.replace(&address.to_string(), "H"))
        .collect();
    assert_eq!(
        names,
        [
            "http://H/svc/desk?wsdl",
            "http://H/svc/desk?xsd=1&v=2",
            "http://H/types/a.xsd",
            "http://H/types/b.xsd"
        ]
    );
    assert_eq!(
        fetched
            .missing
            .iter()
            .map(|m| m.replace(&address.to_string(), "H"))
            .collect::<Vec<_>>(),
        ["http://H/svc/lost.xsd: it answers 404 Not Found"]
    );
    assert_eq!(
        count.load(Ordering::Relaxed),
        5,
        "each once, and nothing of what everybody knows"
    );
    let main = &fetched.source.files[&fetched.source.main];
    assert!(
        main.contains(&format!(
            "schemaLocation='http://{address}/svc/desk?xsd=1&amp;v=2'"
        )),
        "{main}"
    );
}

#[tokio::test]
async fn credentials_are_for_the_definition_s_own_host_only() {
    let check = |_: &str, headers: &HeaderMap| match headers.get("authorization") {
        None => "<a/>".into_response(),
        Some(_) => StatusCode::IM_A_TEAPOT.into_response(),
    };
    let (other, _) = serve(check).await;
    let (address, _) = serve(move |path, headers| {
        match (
            path,
            headers.get("authorization").map(|v| v.to_str().unwrap()),
        ) {
            ("/w", Some("Basic cG9yY2g6dGlkZSAmIHRhY2tsZQ==")) => {
                wsdl(&["a.xsd", &format!("http://{other}/b.xsd")]).into_response()
            }
            ("/a.xsd", Some(_)) => schema(&[]).into_response(),
            _ => StatusCode::UNAUTHORIZED.into_response(),
        }
    })
    .await;
    let url = format!("http://{address}/w");
    assert!(matches!(
        fetch(&url, &local()).await,
        Err(FetchError::Login(_, 401))
    ));
    let (pair, trimmed) = login(" porch:tide & tackle \n").unwrap();
    assert!(trimmed);
    let fetched = fetch(
        &url,
        &Allowed {
            local: true,
            login: Some(pair),
            ..Allowed::default()
        },
    )
    .await
    .unwrap();
    assert_eq!((fetched.source.files.len(), fetched.missing), (3, vec![]));
    assert!(!login("a:b").unwrap().1 && login("nonsense").is_err());
}

#[tokio::test]
async fn addresses_of_the_own_host_are_refused_unless_allowed() {
    let (address, count) =
        serve(|_, _| wsdl(&["http://169.254.169.254/latest/meta-data"]).into_response()).await;
    for url in [
        format!("http://{address}/w"),
        format!("http://localhost:{}/w", address.port()),
        format!("http://[::ffff:127.0.0.1]:{}/w", address.port()),
    ] {
        assert!(
            matches!(
                fetch(&url, &Allowed::default()).await,
                Err(FetchError::Local(..))
            ),
            "{url}"
        );
    }
    for url in [
        "http://169.254.169.254/latest",
        "http://0.0.0.0/",
        "http://[fd00:ec2::254]/",
        "http://[fe80::1]/",
    ] {
        assert!(
            matches!(
                fetch(url, &Allowed::default()).await,
                Err(FetchError::Local(..))
            ),
            "{url}"
        );
        assert!(names_local(url), "{url}");
    }
    assert_eq!(count.load(Ordering::Relaxed), 0);
    assert!(!names_local("http://example.invalid/"));
}

#[tokio::test]
async fn other_schemes_redirects_and_endless_answers_are_bounded() {
    let (address, count) = serve(|path, _| match path {
        "/file" => (StatusCode::FOUND, [("location", "file:///etc/passwd")]).into_response(),
        "/large" => vec![b'<'; 17 << 20].into_response(),
        "/error" => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
        other if other.starts_with("/deep") => {
            let n: usize = other[5..].parse().unwrap_or(0);
            wsdl(&[&format!("/deep{}", n + 1)]).into_response()
        }
        other => (StatusCode::FOUND, [("location", format!("{other}x"))]).into_response(),
    })
    .await;
    let get = |path: &str| {
        let url = format!("http://{address}{path}");
        async move { fetch(&url, &local()).await }
    };
    assert!(matches!(get("/file").await, Err(FetchError::Address(..))));
    assert!(
        get("/loop")
            .await
            .unwrap_err()
            .to_string()
            .contains("more than 5 redirects")
    );
    assert!(matches!(get("/large").await, Err(FetchError::TooMuch(..))));
    assert!(
        get("/error")
            .await
            .unwrap_err()
            .to_string()
            .ends_with("it answers 500 Internal Server Error")
    );
    let before = count.load(Ordering::Relaxed);
    let deep = get("/deep0").await.unwrap();
    assert!(
        deep.missing[0].contains("imports more than 20 deep"),
        "{:?}",
        deep.missing
    );
    assert!(count.load(Ordering::Relaxed) - before < 30);
    for url in [
        "ftp://example.invalid/",
        "file:///etc/passwd",
        "nonsense",
        "http://a:b@example.invalid/",
    ] {
        let error = fetch(url, &local()).await.unwrap_err();
        assert!(matches!(error, FetchError::Address(..)), "{url}: {error}");
        assert!(!error.to_string().contains("a:b"));
    }
}

#[tokio::test]
async fn what_a_description_refers_to_is_fetched_from_its_own_server_alone() {
    let (elsewhere, asked) = serve(|_, _| "Berth: {}".into_response()).await;
    let (address, count) = serve(move |path, headers| {
        let main = format!(
            "openapi: 3.0.3\ninfo: {{ title: T, version: '1' }}\nservers: [{{ url: ../v2 }}]\npaths:\n  /a: {{ $ref: 'paths/a.yaml' }}\n  /b: {{ $ref: 'http://{elsewhere}/b.yaml' }}\n  /c: {{ $ref: 'file:///etc/hostname' }}\n"
        );
        let login = headers.get("authorization").is_some();
        match path {
            "/defs/main.yaml" if login => main.into_response(),
            "/defs/paths/a.yaml" if login => "get: { operationId: readA, responses: { '200': { $ref: '../main.yaml#/components/responses/none' } } }".into_response(),
            _ => StatusCode::NOT_FOUND.into_response(),
        }
    })
    .await;
    let allowed = Allowed {
        login: Some(("desk".into(), "tide".into())),
        ..local()
    };
    let main = format!("http://{address}/defs/main.yaml");
    let fetched = fetch(&main, &allowed).await.unwrap();
    assert_eq!(count.load(Ordering::Relaxed), 2);
    assert_eq!(asked.load(Ordering::Relaxed), 0);
    let told = "it is on another server than the description, and not asked for";
    let missing: Vec<&String> = fetched.missing.iter().collect();
    assert_eq!(missing.len(), 2, "{missing:?}");
    assert!(missing.iter().all(|m| m.ends_with(told)), "{missing:?}");
    let look = porch_facade::look(&fetched.source).unwrap();
    assert_eq!(look.addresses, [format!("http://{address}/v2")]);
    let ids: Vec<&str> = look.operations.iter().map(|o| o.id.as_str()).collect();
    assert_eq!(ids, ["readA"]);
    // The addresses that nothing came of are told where they stand.
    let nowhere = look
        .findings
        .iter()
        .filter(|f| f.message.contains("leads nowhere"));
    assert_eq!(nowhere.count(), 3, "{:?}", look.findings);
}

#[tokio::test]
async fn sample_calls_are_made_once_bounded_and_led_nowhere_else() {
    let (elsewhere, asked) = serve(|_, _| "{}".into_response()).await;
    let to = format!("http://{elsewhere}/other?sig=l3d-there");
    let (address, count) = serve(move |path, headers| match path {
        "/go" => (StatusCode::TEMPORARY_REDIRECT, [("location", to.as_str())]).into_response(),
        large if large.starts_with("/large") => vec![b'x'; 17 << 20].into_response(),
        _ if headers.contains_key("accept-encoding") => StatusCode::NOT_ACCEPTABLE.into_response(),
        _ => ([("content-type", "application/json")], "{\"booked\":true}").into_response(),
    })
    .await;
    let made = |command: String| async move { sample(&command, &local()).await };
    let led = made(format!("curl -L -X POST http://{address}/go -d 'a=1'"))
        .await
        .unwrap();
    assert!(
        led.told
            .iter()
            .any(|t| t.contains("no redirect is followed")),
        "{:?}",
        led.told
    );
    assert!(!led.told.join(" ").contains("l3d-there"), "{:?}", led.told);
    assert_eq!(asked.load(Ordering::Relaxed), 0);
    assert_eq!(count.load(Ordering::Relaxed), 1);
    // What a browser adds does not keep the answer from being read.
    let booked = made(format!(
        "curl http://{address}/book --compressed -H 'Accept-Encoding: gzip, br' -d '{{}}'"
    ))
    .await
    .unwrap();
    assert!(booked.source.files["sample.openapi.json"].contains("booked"));
    assert_eq!(count.load(Ordering::Relaxed), 2);
    let large = made(format!("curl 'http://{address}/large?api_key=h1dden'"))
        .await
        .unwrap_err();
    assert!(matches!(large, FetchError::TooMuch(..)));
    assert!(!large.to_string().contains("h1dden"), "{large}");
    // Nothing of this host is called where that is not allowed, and nothing that is no sample.
    let refused = sample(&format!("curl http://{address}/"), &Allowed::default()).await;
    assert!(matches!(refused, Err(FetchError::Local(..))), "{refused:?}");
    let wrong = made("curl -T file http://h/ -d".into()).await.unwrap_err();
    assert!(matches!(wrong, FetchError::Sample(_)), "{wrong}");
    assert_eq!(count.load(Ordering::Relaxed), 3);
}

#[tokio::test]
async fn a_login_beside_a_sample_is_one_of_its_credentials() {
    let (address, _) = serve(|_, headers| match headers.get("authorization") {
        Some(login) if login == "Basic ZGVzazpsaWdodA==" => "in".into_response(),
        _ => StatusCode::UNAUTHORIZED.into_response(),
    })
    .await;
    let allowed = Allowed {
        login: Some(login("desk:light").unwrap().0),
        ..local()
    };
    let sampled = sample(&format!("http://{address}/x"), &allowed)
        .await
        .unwrap();
    assert_eq!(sampled.told, Vec::<String>::new());
    let known = &sampled.source.credentials;
    assert_eq!(known.len(), 1);
    assert_eq!(known[0].origin, format!("http://{address}"));
    assert!(!format!("{known:?}").contains("light"));
    // A sample of another server gets nothing of it.
    let (other, count) = serve(|_, headers| {
        assert!(!headers.contains_key("authorization"));
        "out".into_response()
    })
    .await;
    let both = format!("curl http://{address}/x\ncurl http://{other}/y");
    let sampled = sample(&both, &allowed).await.unwrap();
    assert_eq!(count.load(Ordering::Relaxed), 1);
    let origins: Vec<_> = (sampled.source.credentials.iter().map(|k| &k.origin)).collect();
    assert_eq!(origins, [&format!("http://{address}")]);
}

#[tokio::test]
async fn a_catalogue_lists_what_there_is_and_leads_to_nobody_else() {
    let (elsewhere, asked) = serve(|_, _| "{}".into_response()).await;
    let other = format!("http://{elsewhere}");
    let (address, count) = serve(move |path, headers| {
        let entry = |n: usize| format!("{{\"anchor\":\"/a{n}\",\"service-desc\":[{{\"href\":\"/a{n}/openapi.json\",\"title\":\"A{n}\"}}]}}");
        let many: Vec<String> = (0..900).map(entry).collect();
        match path {
            "/.well-known/api-catalog" => {
                assert!(headers.contains_key("authorization"));
                format!("{{\"linkset\":[{{\"anchor\":\"/fares\",\"service-desc\":[{{\"href\":\"fares.json\",\"type\":\"application/json\"}}],\"item\":[{{\"href\":\"/fares\"}}]}},{{\"item\":[{{\"href\":\"{other}/tides\"}}]}},{{\"api-catalog\":[{{\"href\":\"/more\"}},{{\"href\":\"/.well-known/api-catalog\"}},{{\"href\":\"{other}/catalogue\"}}]}},{{\"service-desc\":7}},7]}}").into_response()
            }
            "/more" => format!("{{\"linkset\":[{}]}}", many.join(",")).into_response(),
            _ => StatusCode::NOT_FOUND.into_response(),
        }
    })
    .await;
    let allowed = Allowed {
        login: Some(login("desk:light").unwrap().0),
        ..local()
    };
    let base = format!("http://{address}/anything");
    let found = offers(&base, &allowed).await.unwrap();
    assert_eq!(found.len(), 500);
    assert_eq!(
        found[0].address,
        format!("http://{address}/.well-known/fares.json")
    );
    assert_eq!(
        (found[0].title.as_str(), found[0].media_type.as_str()),
        ("/fares", "application/json")
    );
    assert_eq!(found[1].address, format!("http://{elsewhere}/tides"));
    assert_eq!(found[2].title, "A0");
    assert_eq!(
        (count.load(Ordering::Relaxed), asked.load(Ordering::Relaxed)),
        (2, 0)
    );
    // The only one is taken by itself where it is on the same server, and nowhere else.
    assert_eq!(only_own(&base, &found), None);
    assert_eq!(only_own(&base, &found[..1]), found.first());
    assert_eq!(only_own(&base, &found[1..2]), None);
}

#[tokio::test]
async fn without_a_catalogue_the_usual_places_are_asked() {
    let (address, _) = serve(|path, _| match path {
        "/api/openapi.yaml" => {
            "openapi: 3.1.0\ninfo: { title: a, version: '1' }\npaths: {}\n".into_response()
        }
        "/desk?wsdl" => wsdl(&[]).into_response(),
        "/.well-known/api-catalog" => "<html>".into_response(),
        _ => StatusCode::NOT_FOUND.into_response(),
    })
    .await;
    let found = |path: &str| {
        let url = format!("http://{address}{path}");
        async move { offers(&url, &local()).await.unwrap() }
    };
    for path in ["/api", "/api/", "/api?x=1"] {
        let all = found(path).await;
        assert_eq!(
            all[0].address,
            format!("http://{address}/api/openapi.yaml"),
            "{path}"
        );
    }
    assert_eq!(
        found("/desk").await[0].address,
        format!("http://{address}/desk?wsdl")
    );
    assert_eq!(found("/none").await, []);
    assert_eq!(found("/").await, []);
}
