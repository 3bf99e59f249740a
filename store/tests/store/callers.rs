//! Who calls: credentials, agreements, and what has changed of them.

use porch_store::{AgreementChange, ConsumerChange, NewAddition, NewAgreement};

use super::*;

/// Two consumers with three keys.
async fn clock_and_desk(store: &Store) -> [i64; 2] {
    let change = store.change("inge").await.unwrap();
    let clock = change
        .create_consumer("Tide Clock", "clocks")
        .await
        .unwrap();
    let desk = change
        .create_consumer("Island Freight Desk", "")
        .await
        .unwrap();
    for (n, consumer) in ["Tide Clock", "Tide Clock", "Island Freight Desk"]
        .iter()
        .enumerate()
    {
        let (prefix, hash) = (format!("prefix{n}"), format!("{n:064}"));
        change
            .create_credential(&key(consumer, "", &prefix, &hash))
            .await
            .unwrap();
    }
    change.touch_grants(clock.id, &[]).await.unwrap();
    change.touch_grants(desk.id, &[]).await.unwrap();
    change.commit().await.unwrap();
    [clock.id, desk.id]
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_changed_of_whom_is_followed_one_by_one() {
    let store = store("followed").await;
    let [clock, desk] = clock_and_desk(&store).await;
    let number = async || store.revisions().await.unwrap()["grants"];
    let first = number().await;
    let all = store.grant_changes(0, first).await.unwrap().unwrap();
    let ids: Vec<i64> = all.iter().map(|c| c.consumer).collect();
    assert_eq!(ids, [clock, desk]);
    // One is deleted: its credentials go with it, and are named.
    let change = store.change("inge").await.unwrap();
    let gone = change.hashes_of(clock).await.unwrap();
    assert_eq!(gone.len(), 2);
    change.delete_consumer("Tide Clock").await.unwrap();
    change.touch_grants(clock, &gone).await.unwrap();
    change.commit().await.unwrap();
    let told = store
        .grant_changes(first, number().await)
        .await
        .unwrap()
        .unwrap();
    let mut named: Vec<String> = told.into_iter().filter_map(|c| c.gone).collect();
    named.sort();
    assert_eq!(named, gone);
    assert_eq!(store.credentials_behind(0, 9).await.unwrap().len(), 1);
    // Nothing new is no list; and who is too far behind reads everything.
    assert_eq!(
        store
            .grant_changes(number().await, number().await)
            .await
            .unwrap(),
        Some(vec![])
    );
    assert_eq!(store.grant_changes(-1, number().await).await.unwrap(), None);
    assert_eq!(
        store
            .grant_changes(number().await, number().await + 1001)
            .await
            .unwrap(),
        None
    );
    assert_eq!(
        store
            .grant_changes(number().await, number().await + 1)
            .await
            .unwrap(),
        None
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn consumers_are_found_by_a_text_and_a_page_at_a_time() {
    let store = store("found").await;
    let change = store.change("inge").await.unwrap();
    for (name, owner) in [
        ("Ash 100%", "a_b"),
        ("Birch", "axb"),
        ("Cedar", ""),
        ("Dune", ""),
    ] {
        change.create_consumer(name, owner).await.unwrap();
    }
    let labelled = ConsumerChange {
        labels: Some(vec!["Harbour".into()]),
        roles: Some(vec!["pilot".into()]),
        owner: None,
        bound: None,
    };
    change.change_consumer("Dune", &labelled).await.unwrap();
    change.commit().await.unwrap();
    let names = async |after: &str, search: &str, most| {
        let found = store.consumers_behind(after, search, most).await.unwrap();
        found.into_iter().map(|c| c.name).collect::<Vec<_>>()
    };
    assert_eq!(names("", "", 3).await, ["Ash 100%", "Birch", "Cedar"]);
    assert_eq!(names("Cedar", "", 3).await, ["Dune"]);
    for (search, wanted) in [
        ("BIR", vec!["Birch"]),
        ("100%", vec!["Ash 100%"]),
        ("a_b", vec!["Ash 100%"]),
        ("harbour", vec!["Dune"]),
        ("'; drop table consumer; --", vec![]),
        ("pilot", vec![]),
    ] {
        assert_eq!(names("", search, 9).await, wanted, "{search}");
    }
    let dune = store.consumer("Dune").await.unwrap();
    assert_eq!(
        (dune.roles(), dune.labels()),
        (vec!["pilot".into()], vec!["Harbour".into()])
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn agreements_are_kept_and_no_name_is_given_twice() {
    let store = store("agreed").await;
    let change = store.change("inge").await.unwrap();
    change
        .create_consumer("Gullwing Tours", "tours")
        .await
        .unwrap();
    let new = NewAgreement {
        consumer: "Gullwing Tours".into(),
        offer: "charter-hand".into(),
        terms: json!({ "requests": 12000 }),
        opens: Some(vec!["sailings".into(), "timetable".into()]),
        from_at: 5,
        until_at: None,
        ..NewAgreement::default()
    };
    let made = change.create_agreement(&new).await.unwrap();
    assert_eq!(
        made.opens(),
        Some(vec!["sailings".into(), "timetable".into()])
    );
    let wanted = AgreementChange {
        terms: Some(json!({ "requests": 13000 })),
        until_at: Some(Some(9)),
        ..AgreementChange::default()
    };
    let changed = change.change_agreement(made.id, &wanted).await.unwrap();
    assert_eq!(
        (changed.until_at, &changed.terms["requests"]),
        (Some(9), &json!(13000))
    );
    change
        .create_credential(&key("Gullwing Tours", "", "abcdefgh", "aa"))
        .await
        .unwrap();
    let again = change
        .create_credential(&key("Gullwing Tours", "", "abcdefgh", "bb"))
        .await;
    assert!(matches!(again, Err(StoreError::Taken(_))), "{again:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn uses_and_additions_are_kept() {
    let store = store("used").await;
    let change = store.change("inge").await.unwrap();
    change
        .create_consumer("Gullwing Tours", "tours")
        .await
        .unwrap();
    change
        .create_credential(&key("Gullwing Tours", "", "abcdefgh", "aa"))
        .await
        .unwrap();
    let period = (1000, i64::MAX);
    let addition = NewAddition {
        quota: u64::MAX,
        subject: 7,
        period,
        amount: 100,
        told: "x".into(),
        why: "festival".into(),
    };
    change.add_to_quota(&addition).await.unwrap();
    change
        .add_to_quota(&NewAddition {
            period: (0, 1),
            ..addition
        })
        .await
        .unwrap();
    change.commit().await.unwrap();
    let additions = store.additions().await.unwrap();
    assert_eq!(additions.len(), 1, "what is over is not read");
    assert_eq!(
        (
            additions[0].quota,
            additions[0].amount,
            additions[0].added_by.as_str()
        ),
        (-1, 100, "inge")
    );
    // The last use is to the minute, and does not go back.
    for minute in [30_000_000, 29_999_999] {
        store
            .used(&[
                ("key".into(), "abcdefgh".into(), minute),
                ("key".into(), "nobody".into(), 1),
            ])
            .await
            .unwrap();
    }
    let kept = store.credential("key", "abcdefgh").await.unwrap();
    assert_eq!(kept.last_used_at, Some(30_000_000 * 60_000));
}
