//! Changes: all or nothing, told, counted.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_change_that_is_not_committed_has_not_happened() {
    let store = store("half").await;
    let change = store.change("inge").await.unwrap();
    change
        .create_consumer("Quayside Kiosk", "kiosks")
        .await
        .unwrap();
    change
        .audit("registered", "consumer Quayside Kiosk", json!({}))
        .await
        .unwrap();
    change.touch(&Topic::Grants).await.unwrap();
    drop(change);
    assert!(store.consumers().await.unwrap().is_empty());
    assert!(store.audit_lines(10).await.unwrap().is_empty());
    assert!(store.revisions().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_and_counted_by_topic() {
    let store = store("told").await;
    let mut listener = store.listen().await.unwrap();
    let live = Topic::Served("live".into());
    for topic in [Topic::Grants, live.clone(), live.clone()] {
        let change = store.change("inge").await.unwrap();
        change.touch(&topic).await.unwrap();
        change.commit().await.unwrap();
        let told = tokio::time::timeout(Duration::from_secs(20), listener.next());
        assert_eq!(told.await.unwrap().unwrap(), topic.name());
    }
    let revisions = store.revisions().await.unwrap();
    assert_eq!((revisions["grants"], revisions["served/live"]), (1, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_releases_upon_the_same_base_one_is_told() {
    let store = store("releases").await;
    let release = async |after: i64, note: &str| {
        let change = store.change("inge").await?;
        let content = json!({ "facades": {} });
        let made = change
            .create_release("live", after, json!([]), content, note)
            .await?;
        change.commit().await?;
        Ok::<_, StoreError>(made.number)
    };
    assert_eq!(release(0, "first").await.unwrap(), 1);
    let late = release(0, "late").await.unwrap_err();
    assert!(matches!(late, StoreError::Stale(_)), "{late:?}");
    assert_eq!(release(1, "second").await.unwrap(), 2);
    let served = store.served("live").await.unwrap().unwrap();
    assert_eq!((served.number, served.note.as_str()), (2, "second"));
    assert!(store.served("staging").await.unwrap().is_none());
    assert_eq!(store.releases("live", 10).await.unwrap().len(), 2);
    let missing = store.release("live", 7).await.unwrap_err();
    assert!(matches!(missing, StoreError::Missing(_)), "{missing:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_somebody_else_changed_is_not_written_over() {
    let store = store("draft").await;
    let write = async |text: &str, revision: Option<i64>| {
        let change = store.change("inge").await?;
        let file = ("a.yaml".to_owned(), text.to_owned(), revision);
        change.write_draft(&[file], &[]).await?;
        change.commit().await
    };
    write("one", None).await.unwrap();
    write("two", Some(1)).await.unwrap();
    let late = write("three", Some(1)).await.unwrap_err();
    assert!(matches!(late, StoreError::Stale(_)), "{late:?}");
    let draft = store.draft().await.unwrap();
    assert_eq!((draft[0].text.as_str(), draft[0].revision), ("two", 2));
    let change = store.change("inge").await.unwrap();
    change
        .write_draft(&[], &["a.yaml".to_owned()])
        .await
        .unwrap();
    change.commit().await.unwrap();
    assert!(store.draft().await.unwrap().is_empty());
    assert_eq!(store.revisions().await.unwrap()["draft"], 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_open_only_with_their_key_and_in_their_environment() {
    let store = store("secrets").await;
    let change = store.change("inge").await.unwrap();
    change
        .set_secret("live", "login", "tide & tackle")
        .await
        .unwrap();
    change
        .set_secret("live", "login", "fog & fender")
        .await
        .unwrap();
    change.commit().await.unwrap();
    let live = store.secrets("live").await.unwrap();
    assert_eq!(live["login"], "fog & fender");
    assert!(store.secrets("staging").await.unwrap().is_empty());
    let other = Seal::new(&Seal::new_key().unwrap()).unwrap();
    let stranger = Store::open(&url("secrets"), other).await.unwrap();
    let sealed = stranger.secrets("live").await.unwrap_err();
    assert!(matches!(sealed, StoreError::Seal(_)), "{sealed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn accounts_keys_and_pauses_are_found_again() {
    let store = store("objects").await;
    let change = store.change("inge").await.unwrap();
    let inge = change
        .create_account("inge", Some("harbour-lights"), Role::Administrator)
        .await
        .unwrap();
    change.create_consumer("Tide Clock", "").await.unwrap();
    let key = change
        .create_credential(&super::key("Tide Clock", "wall", "abcdefgh", "00"))
        .await
        .unwrap();
    change
        .set_pause("sailings", "quoteFare", true)
        .await
        .unwrap();
    change.commit().await.unwrap();
    let taken = store.change("inge").await.unwrap();
    let again = taken.create_consumer("Tide Clock", "").await.unwrap_err();
    assert!(matches!(again, StoreError::Taken(_)), "{again:?}");
    drop(taken);
    for (password, fits) in [("harbour-lights", true), ("harbour", false)] {
        let found = store.sign_in("inge", password).await.unwrap();
        assert_eq!(found.map(|a| a.id), fits.then_some(inge.id), "{password}");
    }
    let change = store.change("inge").await.unwrap();
    let ended = change
        .change_credential(
            "key",
            "abcdefgh",
            &CredentialChange {
                ends_at: Some(Some(5)),
                paused: Some(true),
                ..CredentialChange::default()
            },
        )
        .await
        .unwrap();
    let nothing = CredentialChange::default();
    let nobody = change.change_credential("key", "nothing", &nothing).await;
    let nobody = nobody.unwrap_err();
    assert!(matches!(nobody, StoreError::Missing(_)), "{nobody:?}");
    change
        .set_pause("sailings", "quoteFare", false)
        .await
        .unwrap();
    change.commit().await.unwrap();
    assert_eq!(
        (ended.id, ended.ends_at, ended.paused),
        (key.id, Some(5), true)
    );
    assert!(store.pauses().await.unwrap().is_empty());
    assert_eq!(store.credentials_behind(0, 9).await.unwrap().len(), 1);
    assert!(
        store
            .traces(&TraceQuery::default())
            .await
            .unwrap()
            .is_empty()
    );
}
