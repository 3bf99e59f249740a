//! Addresses that are known not to be well are left alone, while there are others.

use super::*;

#[test]
fn calls_go_where_it_is_well_and_everywhere_where_nothing_is() {
    let counts: [Arc<AtomicUsize>; 2] = std::array::from_fn(|_| Arc::default());
    let backends = counts.each_ref().map(counting);
    let [a, b] = backends.each_ref().map(|b| b.address);
    let lines = format!("address: ['http://{a}', 'http://{b}']\nhealth: {{ path: /up }}");
    let porch = compile_called(&lines, "", CONTRACT, &["item"]);
    let backend = porch.facades[0].backends[0].clone();
    let identity = backend.health.as_ref().unwrap().identity;
    let stage = Stage::of(porch);
    let watched = stage.shared.watched.clone();
    let call = |wanted: [usize; 2]| {
        for _ in 0..12 {
            assert_eq!(status(&stage.get("/f/item/1", "")), 200);
        }
        let came = counts.each_ref().map(|c| c.swap(0, Ordering::SeqCst));
        match wanted {
            [0, 0] => assert!(came[0] > 0 && came[1] > 0, "{came:?}"),
            wanted => assert_eq!(came, wanted),
        }
    };
    call([0, 0]);
    watched.set(identity, 0, Some("503 Service Unavailable".into()));
    call([0, 12]);
    // Where none is well, calls are made all the same: the question may be what is wrong.
    watched.set(identity, 1, Some("no answer within 2000 ms".into()));
    call([0, 0]);
    // How another backend of the same addresses is asked says nothing of this one.
    watched.set(identity, 0, None);
    watched.set(identity, 1, None);
    watched.set(identity + 1, 0, Some("503".into()));
    call([0, 0]);
    watched.set(identity, 1, Some("503 Service Unavailable".into()));
    call([12, 0]);
    let (traces, _) = stage.end();
    let notes: Vec<&String> = traces
        .iter()
        .flat_map(|t| &t.stages)
        .flat_map(|s| &s.notes)
        .collect();
    let told = format!("{a} is not well: 503 Service Unavailable");
    assert!(notes.iter().any(|n| **n == told), "{notes:?}");
}
