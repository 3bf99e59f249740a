//! Consumers, accounts, sessions, files: what is refused, and how that is told.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_text_with_nul_is_told_as_that_and_changes_nothing() {
    let store = store("nul").await;
    let nul = "a\0b";
    // A change is over with what went wrong in it: each gets one of its own.
    let fails = |outcome: Result<(), StoreError>, what: &str| {
        assert!(
            matches!(outcome, Err(StoreError::Nul)),
            "{what}: {outcome:?}"
        );
    };
    let change = async || store.change("inge").await.unwrap();
    let made = change().await.create_consumer(nul, "").await;
    fails(made.map(drop), "a consumer's name");
    let made = change().await.create_consumer("x", nul).await;
    fails(made.map(drop), "a consumer's owner");
    let c = change().await;
    c.create_consumer("Tide Clock", "").await.unwrap();
    let made = c
        .create_credential(&key("Tide Clock", nul, "abcdefgh", "00"))
        .await;
    fails(made.map(drop), "a key's label");
    let made = change()
        .await
        .create_account(nul, Some("harbour-lights"), Role::Viewer)
        .await;
    fails(made.map(drop), "an account's name");
    let made = change().await.set_pause(nul, "", true).await;
    fails(made, "a facade's name");
    let files = [("a.yaml".to_owned(), nul.to_owned(), None)];
    fails(
        change().await.write_draft(&files, &[]).await,
        "a file's text",
    );
    let made = change()
        .await
        .create_release("live", 0, json!([]), json!({ "x": nul }), "")
        .await;
    fails(made.map(drop), "a release's content");
    let made = change()
        .await
        .create_release("live", 0, json!([]), json!({}), nul)
        .await;
    fails(made.map(drop), "a release's note");
    let made = change().await.audit("did", nul, json!({})).await;
    fails(made, "an object's name");
    assert!(store.consumers().await.unwrap().is_empty());
    assert!(store.draft().await.unwrap().is_empty());
    assert!(store.releases("live", 10).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_are_found_by_their_token_until_they_end() {
    let store = store("sessions").await;
    let change = store.change("inge").await.unwrap();
    let inge = change
        .create_account("inge", Some("harbour-lights"), Role::Publisher)
        .await
        .unwrap();
    change.commit().await.unwrap();
    assert!(store.has_accounts().await.unwrap());
    assert_eq!(store.accounts().await.unwrap().len(), 1);
    for (token, lasts_ms) in [("over", -1), ("good", 3_600_000)] {
        store
            .create_session(token, &inge, "test", lasts_ms)
            .await
            .unwrap();
    }
    let who = async |token: &str| store.session(token).await.unwrap().map(|a| a.name);
    assert_eq!(who("good").await.as_deref(), Some("inge"));
    assert_eq!(who("over").await, None);
    assert_eq!(who("other").await, None);
    assert_eq!(who("").await, None);
    store.end_session("good").await.unwrap();
    assert_eq!(who("good").await, None);
    // Ending what has ended changes nothing.
    store.end_session("good").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_there_is_named() {
    let store = store("missing").await;
    let missing = |outcome: Result<(), StoreError>, name: &str| match outcome {
        Err(StoreError::Missing(what)) => assert!(what.contains(name), "{what}"),
        other => panic!("{name}: {other:?}"),
    };
    let change = store.change("inge").await.unwrap();
    missing(
        change.pause_consumer("Nobody", true).await.map(drop),
        "Nobody",
    );
    let made = change
        .create_credential(&key("Nobody", "", "abcdefgh", "00"))
        .await;
    missing(made.map(drop), "Nobody");
    missing(store.consumer("Nobody").await.map(drop), "Nobody");
    missing(store.release("live", 12).await.map(drop), "12");
}

#[tokio::test(flavor = "multi_thread")]
async fn pausing_twice_is_pausing_once() {
    let store = store("pauses").await;
    for paused in [true, true, false, false, true] {
        let change = store.change("inge").await.unwrap();
        change.set_pause("sailings", "", paused).await.unwrap();
        change
            .set_pause("sailings", "quoteFare", paused)
            .await
            .unwrap();
        change.commit().await.unwrap();
        let all = store.pauses().await.unwrap();
        assert_eq!(all.len(), if paused { 2 } else { 0 });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_knows_an_old_password_only_gets_no_session() {
    let store = store("passwords").await;
    let change = store.change("inge").await.unwrap();
    let before = change
        .create_account("tove", Some("quiet-harbour"), Role::Publisher)
        .await
        .unwrap();
    change.commit().await.unwrap();
    // Between the check of the password and the session, it becomes another one.
    let checked = store.sign_in("tove", "quiet-harbour").await.unwrap();
    assert_eq!(checked.as_ref(), Some(&before));
    let change = store.change("inge").await.unwrap();
    let now = change
        .change_account("tove", None, Some("new-moorings"))
        .await
        .unwrap();
    change.commit().await.unwrap();
    let refused = store.create_session("t1", &before, "", 60_000).await;
    assert!(refused.is_err());
    assert_eq!(store.session("t1").await.unwrap(), None);
    store.create_session("t2", &now, "", 60_000).await.unwrap();
    assert!(store.session("t2").await.unwrap().is_some());
    let change = store.change("inge").await.unwrap();
    change.end_account("tove").await.unwrap();
    change.commit().await.unwrap();
    assert_eq!(store.session("t2").await.unwrap(), None);
    assert!(store.create_session("t3", &now, "", 60_000).await.is_err());
}
