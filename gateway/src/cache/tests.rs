use std::time::Duration;

use bytes::Bytes;
use http::{HeaderMap, StatusCode, header};
use porch_facade::CompiledFacade;

use super::entry::Of;
use super::*;

fn facade(name: &str) -> Arc<CompiledFacade> {
    Arc::new(CompiledFacade {
        name: name.to_owned(),
        version: String::new(),
        hosts: Vec::new(),
        base: String::new(),
        key_header: header::FROM,
        key_header_shown: String::new(),
        operations: Vec::new(),
        backends: Vec::new(),
        definitions: Vec::new(),
        secrets: Vec::new(),
        named: Vec::new(),
        mask: porch_facade::Mask::default(),
    })
}

fn life() -> Life {
    Life {
        fresh: Duration::from_secs(60),
        age: Duration::ZERO,
        while_revalidate: Duration::ZERO,
        if_error: Duration::ZERO,
        no_cache: false,
        must_revalidate: false,
    }
}

fn headers(lines: &[(&'static str, &'static str)]) -> HeaderMap {
    let mut all = HeaderMap::new();
    for (name, value) in lines {
        all.append(*name, value.parse().unwrap());
    }
    all
}

fn entry(
    (cache, facade): (&Cache, &Arc<CompiledFacade>),
    key: &Key,
    vary: &'static str,
    asked: &HeaderMap,
    body: usize,
) -> Arc<Entry> {
    let tags: [Arc<str>; 1] = ["fares".into()];
    let target = std::str::from_utf8(&key.uri).unwrap();
    let of = Of {
        facade,
        operation: "look",
        tags: &tags,
        target: target.trim_start_matches("h\0"),
        since: cache.since(key, &facade.name, &tags),
        headers: asked,
    };
    let own = match vary {
        "" => HeaderMap::new(),
        vary => headers(&[("vary", vary)]),
    };
    let body = Bytes::from(vec![b'x'; body]);
    Arc::new(Entry::new(of, life(), (StatusCode::OK, own, &body)))
}

fn key(text: &str) -> Key {
    Key {
        uri: Key::uri("h", text),
        rest: [].into(),
    }
}

#[test]
fn a_reply_fits_whoever_says_the_same_of_what_it_varies_with() {
    let (cache, facade, none) = (Cache::of(1 << 20), facade("f"), HeaderMap::new());
    let (de, en) = (
        headers(&[("accept-language", "de")]),
        headers(&[("accept-language", "en")]),
    );
    let vary = "Accept-Language, x-other";
    keep((&cache, &facade), &key("a"), vary, &de, 1);
    keep((&cache, &facade), &key("a"), vary, &en, 2);
    let length = |asked: &HeaderMap| {
        cache
            .find(key("a").parts(), asked, &facade)
            .0
            .map(|e| e.body.len())
    };
    assert_eq!(
        (length(&de), length(&en), length(&none)),
        (Some(1), Some(2), None)
    );
    assert!(
        cache.find(key("a").parts(), &none, &facade).1,
        "there are others"
    );
    let both = headers(&[("accept-language", "de"), ("accept-language", "en")]);
    assert_eq!(length(&both), None);
    // A newer one takes its place.
    keep((&cache, &facade), &key("a"), vary, &de, 3);
    assert_eq!((length(&de), length(&en)), (Some(3), Some(2)));
    assert_eq!(cache.kept().replies, 2);
    // Another compiled form of the facade has none of it.
    let other = self::facade("f");
    assert!(cache.find(key("a").parts(), &de, &other).0.is_none());
}

#[test]
fn what_is_kept_is_bounded_and_what_is_asked_for_stays() {
    let (cache, facade, none) = (Cache::of(SHARDS * 20_000), facade("f"), HeaderMap::new());
    let wanted = key("wanted");
    keep((&cache, &facade), &wanted, "", &none, 1_000);
    for i in 0..5_000 {
        assert!(
            cache.find(wanted.parts(), &none, &facade).0.is_some(),
            "{i}"
        );
        keep((&cache, &facade), &key(&format!("k{i}")), "", &none, 1_000);
        assert!(cache.kept().bytes <= SHARDS * 20_000);
    }
    assert!(cache.kept().replies > 100, "{:?}", cache.kept());
    // One that is greater than all of its part is not kept.
    keep((&cache, &facade), &key("great"), "", &none, 30_000);
    assert!(cache.find(key("great").parts(), &none, &facade).0.is_none());
    // The same key again and again takes no more room, and leaves no turns behind.
    for _ in 0..10_000 {
        keep((&cache, &facade), &wanted, "", &none, 1_000);
    }
    let turns: usize = cache.shards.iter().map(|s| lock(s).turns.len()).sum();
    assert!(turns < 2_500, "{turns}");
    cache.purge(&Purge::default());
    assert_eq!((cache.kept().replies, cache.kept().bytes), (0, 0));
}

#[test]
fn a_key_has_so_many_variants_and_no_more() {
    let (cache, facade) = (Cache::of(16 << 20), facade("f"));
    for i in 0..100 {
        let mut asked = HeaderMap::new();
        asked.insert("x-id", i.into());
        keep((&cache, &facade), &key("a"), "x-id", &asked, 10);
    }
    assert_eq!(cache.kept().replies, VARIANTS);
}

#[test]
fn replies_are_let_go_by_facade_operation_path_and_tag() {
    let (cache, f, g, none) = (
        Cache::of(1 << 20),
        facade("f"),
        facade("g"),
        HeaderMap::new(),
    );
    let fill = || {
        cache.purge(&Purge::default());
        for (facade, target) in [(&f, "/f/a"), (&f, "/f/a/b"), (&f, "/f/c?x"), (&g, "/g/a")] {
            keep((&cache, facade), &key(target), "", &none, 10);
        }
    };
    let by = |facade: &str, operation: &str, path: &str, tag: &str| Purge {
        facade: facade.into(),
        operation: operation.into(),
        path: path.into(),
        tag: tag.into(),
    };
    for (purge, number) in [
        (by("", "", "", ""), 4),
        (by("f", "", "", ""), 3),
        (by("", "", "/f/a", ""), 2),
        (by("g", "", "", "fares"), 1),
        (by("", "", "", "fare"), 0),
        (by("", "look", "", ""), 4),
    ] {
        fill();
        assert_eq!(cache.purge(&purge), number, "{purge:?}");
        assert_eq!(cache.kept().replies, 4 - number);
    }
    fill();
    let is_there = |facade, target| cache.find(key(target).parts(), &none, facade).0.is_some();
    cache.invalidate("h", "/f/c?x");
    assert!(!is_there(&f, "/f/c?x") && is_there(&f, "/f/a"));
    assert_eq!(cache.kept().replies, 3);
    cache.clear("g", &"fares".into());
    assert!(!is_there(&g, "/g/a") && is_there(&f, "/f/a"));
}

#[test]
fn what_was_asked_for_before_something_was_let_go_is_not_kept() {
    let (cache, f, none) = (Cache::of(1 << 20), facade("f"), HeaderMap::new());
    let key = key("/a");
    let is_there = || cache.find(key.parts(), &none, &f).0.is_some();
    let before = entry((&cache, &f), &key, "", &none, 1);
    cache.invalidate("h", "/a");
    assert!(!cache.keep(&key, &before) && !is_there());
    // What is of other addresses may be kept, as long as it is known what was let go.
    let before = entry((&cache, &f), &key, "", &none, 1);
    (0..LATELY).for_each(|i| cache.invalidate("h", &format!("/other/{i}")));
    assert!(cache.keep(&key, &before) && is_there());
    let before = entry((&cache, &f), &key, "", &none, 1);
    (0..2_000).for_each(|i| cache.invalidate("h", &format!("/other/{i}")));
    assert!(!cache.keep(&key, &before));
    let before = entry((&cache, &f), &key, "", &none, 1);
    cache.clear("f", &"fares".into());
    cache.keep(&key, &before);
    assert!(!is_there());
    let before = entry((&cache, &f), &key, "", &none, 1);
    cache.purge(&Purge::default());
    assert!(!cache.keep(&key, &before));
    keep((&cache, &f), &key, "", &none, 1);
    assert!(is_there());
}

#[test]
fn nobody_waits_for_what_is_not_kept() {
    let cache = Arc::new(Cache::of(1 << 20));
    for i in 0..100_000 {
        cache.passes(&key(&i.to_string()));
    }
    let last = key("99999");
    assert!(matches!(cache.flight(&last), Flight::Alone));
    let all: usize = cache.shards.iter().map(|s| lock(s).passes.len()).sum();
    assert!(all <= SHARDS * PASSES, "{all}");
    keep((&cache, &facade("f")), &last, "", &HeaderMap::new(), 1);
    assert!(matches!(cache.flight(&last), Flight::First(_)));
}

fn keep(
    of: (&Cache, &Arc<CompiledFacade>),
    key: &Key,
    vary: &'static str,
    asked: &HeaderMap,
    body: usize,
) {
    of.0.keep(key, &entry(of, key, vary, asked, body));
}

#[test]
fn one_asks_and_the_others_wait_until_it_is_done() {
    let cache = Arc::new(Cache::of(1 << 20));
    let Flight::First(asking) = cache.flight(&key("a")) else {
        panic!("nobody asks")
    };
    let Flight::Wait(waiting) = cache.flight(&key("a")) else {
        panic!("somebody asks")
    };
    assert!(matches!(cache.flight(&key("b")), Flight::First(_)));
    assert!(waiting.has_changed().is_ok());
    drop(asking);
    // Its sender is gone: whoever waits is told.
    assert!(waiting.has_changed().is_err());
    assert!(!cache.is_asked(&key("a")));
    assert!(matches!(cache.flight(&key("a")), Flight::First(_)));
}

#[test]
fn what_was_let_go_takes_no_memory_any_more() {
    let (cache, f, none) = (Cache::of(1 << 20), facade("f"), HeaderMap::new());
    let all: Vec<std::sync::Weak<Entry>> = (0..50)
        .map(|i| {
            let key = key(&format!("/a/{i}"));
            let entry = entry((&cache, &f), &key, "", &none, 1_000);
            cache.keep(&key, &entry);
            cache.invalidate("h", &format!("/a/{i}"));
            Arc::downgrade(&entry)
        })
        .collect();
    assert!(all.iter().all(|e| e.upgrade().is_none()));
    assert_eq!((cache.kept().replies, cache.kept().bytes), (0, 0));
}
