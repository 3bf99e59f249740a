//! Usage and traces: written in any number, found again, let go.

use porch_store::entity::{trace, usage};

use super::*;

fn row(minute: i64, operation: &str, status: i32, calls: i64) -> usage::ActiveModel {
    usage::ActiveModel {
        minute: Set(minute),
        facade: Set("sailings".into()),
        operation: Set(operation.into()),
        consumer: Set(1),
        status: Set(status),
        boot: Set(7),
        calls: Set(calls),
        bytes_in: Set(10 * calls),
        bytes_out: Set(100 * calls),
        misfits: Set(calls),
        latency: Set(json!([calls, 0, 1])),
    }
}

fn exchange(n: usize, status: i32) -> trace::ActiveModel {
    trace::ActiveModel {
        trace_id: Set(format!("{:032x}-{n:016x}", 0xfeed)),
        at: Set(n as i64),
        facade: Set(if n.is_multiple_of(2) {
            "sailings"
        } else {
            "vessels"
        }
        .into()),
        operation: Set("quoteFare".into()),
        consumer: Set("Tide Clock".into()),
        status: Set(status),
        us: Set(1),
        method: Set("GET".into()),
        target: Set("/".into()),
        why: Set(String::new()),
        content: Set(json!({ "n": n })),
        ..Default::default()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn usage_is_replaced_added_up_and_let_go() {
    let store = store("usage").await;
    let rows = vec![
        row(100, "a", 200, 1),
        row(100, "a", 429, 2),
        row(101, "b", 200, 4),
    ];
    store.write_usage(rows).await.unwrap();
    // The same minute again, with more in it: what is there is replaced, not added to.
    store
        .write_usage(vec![row(100, "a", 200, 3)])
        .await
        .unwrap();
    let all = store.usage_since(0).await.unwrap();
    assert_eq!(all.len(), 3);
    let totals = Store::add_up(&all, |r| r.operation.clone());
    assert_eq!((totals["a"].calls, totals["b"].calls), (5, 4));
    assert_eq!((totals["a"].bytes_in, totals["a"].bytes_out), (50, 500));
    assert_eq!((totals["a"].misfits, totals["b"].misfits), (5, 4));
    assert_eq!(totals["a"].latency, [5, 0, 2]);
    assert_eq!(store.usage_since(101).await.unwrap().len(), 1);
    assert_eq!(store.forget_usage(101).await.unwrap(), 2);
    assert_eq!(store.forget_usage(101).await.unwrap(), 0);
    assert_eq!(store.usage_since(0).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn more_rows_than_a_statement_has_room_for_are_written() {
    let store = store("many").await;
    let rows = (0..8000).map(|i| row(i, "a", 200, 1)).collect();
    store.write_usage(rows).await.unwrap();
    assert_eq!(store.usage_since(0).await.unwrap().len(), 8000);
}

#[tokio::test(flavor = "multi_thread")]
async fn traces_are_found_by_what_they_are_and_by_the_beginning_of_their_id() {
    let store = store("traces").await;
    let rows = (0..20)
        .map(|n| exchange(n, 200 + 10 * (n as i32 % 3)))
        .collect();
    store.write_traces(rows, 1000).await.unwrap();
    let find = async |query: TraceQuery| {
        let found = store.traces(&query).await.unwrap();
        found.into_iter().map(|t| t.at).collect::<Vec<_>>()
    };
    let most = |most: u64| TraceQuery {
        most,
        ..TraceQuery::default()
    };
    assert_eq!(find(most(3)).await, [19, 18, 17]);
    assert_eq!(find(most(0)).await.len(), 1);
    let query = TraceQuery {
        facade: "vessels".into(),
        status_from: 210,
        status_to: 219,
        ..most(100)
    };
    assert_eq!(find(query).await, [19, 13, 7, 1]);
    let query = TraceQuery {
        consumer: "Nobody".into(),
        ..most(100)
    };
    assert!(find(query).await.is_empty());
    // One trace holds many exchanges: whoever knows the whole id gets the one that is meant.
    let trace = format!("{:032x}", 0xfeed);
    let by_id = async |id: &str| store.trace(id).await.unwrap();
    assert_eq!(by_id(&trace).await.len(), 10);
    assert_eq!(by_id(&trace).await[0].at, 19);
    let one = by_id(&format!("{trace}-{:016x}", 4)).await;
    assert_eq!(one.iter().map(|t| t.at).collect::<Vec<_>>(), [4]);
    for odd in [
        "",
        "00000",
        "%",
        "_______",
        "feed' or 'x'='x",
        &"g".repeat(32),
    ] {
        assert!(by_id(odd).await.is_empty(), "{odd}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_oldest_traces_make_room() {
    let store = store("room").await;
    for part in 0..5 {
        let rows = (0..10).map(|n| exchange(part * 10 + n, 200)).collect();
        store.write_traces(rows, 25).await.unwrap();
    }
    let query = TraceQuery {
        most: 500,
        ..TraceQuery::default()
    };
    let left = store.traces(&query).await.unwrap();
    assert_eq!(left.len(), 25);
    assert_eq!((left[0].at, left[24].at), (49, 25));
    store.write_traces(Vec::new(), 25).await.unwrap();
    assert_eq!(store.traces(&query).await.unwrap().len(), 25);
}
