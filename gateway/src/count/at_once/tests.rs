//! Who enters, who waits, and what is asked of other nodes.

use porch_rules::limit::{Decision, PlacesAsked, PlacesTold};

use super::together::{HEARD, KEEPS};
use super::*;
use crate::count::{Ask, CommonState, Soon};

const LONG: Duration = Duration::from_secs(10);
const SHORT: Duration = Duration::from_millis(20);

fn door(key: Key, most: u64, waiting: u32, within: Duration) -> Door {
    Door {
        key,
        most,
        waiting,
        within,
        apart: WhenApart::Share,
    }
}

#[tokio::test(start_paused = true)]
async fn who_comes_first_goes_first_and_a_full_line_is_no_place_to_wait() {
    let doors = Arc::new(AtOnce::default());
    let first = doors
        .enter(door((1, 1), 1, 2, LONG), None)
        .await
        .ok()
        .unwrap();
    let (told, mut order) = tokio::sync::mpsc::unbounded_channel();
    for i in 0..2 {
        let (doors, told) = (doors.clone(), told.clone());
        tokio::spawn(async move {
            let held = doors.enter(door((1, 1), 1, 2, LONG), None).await;
            let _ = told.send((i, held.is_ok()));
            drop(held);
        });
        tokio::task::yield_now().await;
    }
    assert_eq!(
        doors.enter(door((1, 1), 1, 2, LONG), None).await.err(),
        Some(NoPlace::Full(2))
    );
    // Others have a line of their own.
    assert!(doors.enter(door((1, 2), 1, 0, LONG), None).await.is_ok());
    drop(first);
    assert_eq!(order.recv().await, Some((0, true)));
    assert_eq!(order.recv().await, Some((1, true)));
    assert!(doors.lines.lock().is_empty());
}

#[tokio::test(start_paused = true)]
async fn who_waits_too_long_is_refused_and_holds_nobody_up() {
    let doors = AtOnce::default();
    let first = doors
        .enter(door((1, 1), 1, 5, LONG), None)
        .await
        .ok()
        .unwrap();
    assert_eq!(
        doors.enter(door((1, 1), 1, 5, SHORT), None).await.err(),
        Some(NoPlace::Full(1))
    );
    // One who leaves while it waits is passed over.
    let left = tokio::time::timeout(SHORT, doors.enter(door((1, 1), 1, 5, LONG), None)).await;
    assert!(left.is_err());
    drop(first);
    assert!(doors.enter(door((1, 1), 1, 0, LONG), None).await.is_ok());
    assert!(doors.lines.lock().is_empty());
}

/// A place where nodes have them together: what it has, and whether it is there.
#[derive(Default)]
struct Common {
    places: Mutex<porch_rules::limit::Places>,
    away: std::sync::atomic::AtomicBool,
}

impl CommonCounts for Common {
    fn ask(&self, _: Vec<Ask>) -> Soon<Vec<Decision>> {
        Box::pin(std::future::ready(Ok(Vec::new())))
    }
    fn give_back(&self, _: Ask, _: u64) {}
    fn charge(&self, _: Ask) -> Soon<u64> {
        Box::pin(std::future::ready(Ok(0)))
    }
    fn places(&self, _: u64, _: u64, asked: PlacesAsked) -> Soon<PlacesTold> {
        let told = match self.away.load(std::sync::atomic::Ordering::SeqCst) {
            true => Err(Away("it is away".into())),
            false => Ok(self.places.lock().unwrap().ask("one", asked, 1)),
        };
        Box::pin(std::future::ready(told))
    }
    fn periods(&self, _: usize) -> Soon<Vec<(u64, u64, u64, u64)>> {
        Box::pin(std::future::ready(Ok(Vec::new())))
    }
    fn state(&self) -> CommonState {
        CommonState {
            place: "a test",
            nodes: 2,
            away: None,
        }
    }
}

#[tokio::test(start_paused = true)]
async fn places_that_nodes_have_together_are_asked_for_and_given_back() {
    let own = Arc::new(Common::default());
    let common: Arc<dyn CommonCounts> = own.clone();
    let doors = AtOnce::default();
    let enter = |waiting: u32, apart: WhenApart| {
        let door = Door {
            apart,
            ..door((1, 1), 2, waiting, SHORT)
        };
        doors.enter(door, Some(&common))
    };
    for _ in 0..3 {
        let first = enter(0, WhenApart::Refuse).await.unwrap();
        let second = enter(0, WhenApart::Refuse).await.unwrap();
        assert_eq!(
            enter(0, WhenApart::Refuse).await.err(),
            Some(NoPlace::Full(0))
        );
        assert_eq!(
            enter(1, WhenApart::Refuse).await.err(),
            Some(NoPlace::Full(1))
        );
        drop((first, second));
    }
    // What nobody uses is given back, and nothing is left.
    tokio::time::sleep(KEEPS * 3).await;
    assert!(doors.lines.lock().is_empty());
    assert_eq!(own.places.lock().unwrap().over_at(), 0);
    own.away.store(true, std::sync::atomic::Ordering::SeqCst);
    for _ in 0..3 {
        let away = Some(NoPlace::Away("it is away".into()));
        assert_eq!(enter(0, WhenApart::Refuse).await.err(), away);
        assert_eq!(enter(5, WhenApart::Refuse).await.err(), away);
    }
    tokio::time::sleep(KEEPS * 3).await;
    // A share of two is one.
    let first = enter(0, WhenApart::Share).await.unwrap();
    assert_eq!(
        enter(0, WhenApart::Share).await.err(),
        Some(NoPlace::Full(0))
    );
    own.away.store(false, std::sync::atomic::Ordering::SeqCst);
    tokio::time::sleep(HEARD * 2).await;
    let second = enter(0, WhenApart::Share).await.unwrap();
    drop((first, second));
    tokio::time::sleep(KEEPS * 3).await;
    assert!(doors.lines.lock().is_empty());
}
