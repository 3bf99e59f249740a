//! At the edge of a limit, on three nodes.

use super::*;

const PER_BOAT: &str = "  limits: [{ requests: 7, window: 1h, per: =query.boat }]";

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap()
}

/// Statuses of a thousand calls at the same time, to all nodes in turns.
async fn thousand(client: &reqwest::Client, gateways: &[String], boat: &str) -> Vec<u16> {
    let callers = (0..100).map(|caller: usize| {
        let (client, gateways) = (client.clone(), gateways.to_vec());
        let boat = boat.to_owned();
        tokio::spawn(async move {
            let mut statuses = Vec::new();
            for call in 0..10 {
                let gateway = &gateways[(caller + call) % gateways.len()];
                let url = format!("{gateway}/boat/places?boat={boat}");
                statuses.push(client.get(url).send().await.unwrap().status().as_u16());
            }
            statuses
        })
    });
    let mut all = Vec::new();
    for caller in callers.collect::<Vec<_>>() {
        all.extend(caller.await.unwrap());
    }
    all
}

fn seven_of_a_thousand_ten_times(place: &str) {
    let nodes = Nodes::start(3, &new_database(porch_tests::cluster()), place, PER_BOAT);
    let gateways: Vec<String> = nodes.all.iter().map(|n| n.gateway.clone()).collect();
    let client = reqwest::Client::new();
    runtime().block_on(async {
        for round in 0..10 {
            let statuses = thousand(&client, &gateways, &format!("boat-{round}")).await;
            let passed = statuses.iter().filter(|s| **s == 200).count();
            let refused = statuses.iter().filter(|s| **s == 429).count();
            assert_eq!((passed, refused), (7, 993), "round {round}: {statuses:?}");
        }
    });
    // What is told is the same on each node, whichever let the calls pass.
    for node in &nodes.all {
        let told = node.call("GET", "/boat/places?boat=boat-3", "", "");
        assert_eq!(told.json()["used"], 7, "{}", told.text());
        assert_eq!(told.header("ratelimit-policy"), "\"last-boat\";q=7;w=3600");
        assert!(
            told.header("ratelimit")
                .starts_with("\"last-boat\";r=0;t=35")
        );
    }
}

#[test]
fn seven_of_a_thousand_pass_three_nodes_that_count_on_a_server() {
    let (server, _folder) = count_server();
    seven_of_a_thousand_ten_times(&server.url());
}

#[test]
fn seven_of_a_thousand_pass_three_nodes_that_count_in_the_database() {
    seven_of_a_thousand_ten_times("database");
}

/// A call that passed: when it was sent, and when its answer was there.
type Passed = (Duration, Duration);

/// Calls without end to nodes that come and go; what passed.
fn load(
    addresses: Arc<Vec<std::sync::Mutex<String>>>,
    ends: Arc<AtomicBool>,
    caller: usize,
) -> Vec<Passed> {
    let begun = *BEGUN.get_or_init(Instant::now);
    runtime().block_on(async {
        let client = reqwest::Client::new();
        let (mut passed, mut at) = (Vec::new(), caller);
        while !ends.load(Ordering::Relaxed) {
            at += 1;
            let gateway = addresses[at % addresses.len()].lock().unwrap().clone();
            let sent = begun.elapsed();
            let url = format!("{gateway}/boat/places?boat=evening");
            match client.get(url).send().await {
                Ok(answer) if answer.status() == 200 => passed.push((sent, begun.elapsed())),
                Ok(answer) => assert_eq!(answer.status(), 429, "{:?}", answer.text().await),
                // A node that is being killed.
                Err(_) => tokio::task::yield_now().await,
            }
        }
        passed
    })
}

static BEGUN: std::sync::OnceLock<Instant> = std::sync::OnceLock::new();

/// The most calls that certainly passed within one window: sent and answered in it.
fn most_within(passed: &[Passed], window: Duration) -> usize {
    let from = passed.iter().map(|(sent, _)| *sent);
    let inside = |from: Duration| {
        let inside = passed
            .iter()
            .filter(|(s, a)| *s >= from && *a < from + window);
        inside.count()
    };
    from.map(inside).max().unwrap_or(0)
}

fn never_more_while_nodes_are_killed(place: &str) {
    let (most, window) = (120, Duration::from_secs(3));
    let limits = format!("  limits: [{{ requests: {most}, window: 3s, per: everyone }}]");
    let mut nodes = Nodes::start(3, &new_database(porch_tests::cluster()), place, &limits);
    let addresses = nodes
        .all
        .iter()
        .map(|n| std::sync::Mutex::new(n.gateway.clone()));
    let addresses = Arc::new(addresses.collect::<Vec<_>>());
    let ends = Arc::new(AtomicBool::new(false));
    let callers: Vec<_> = (0..6)
        .map(|caller| {
            let (addresses, ends) = (addresses.clone(), ends.clone());
            std::thread::spawn(move || load(addresses, ends, caller))
        })
        .collect();
    let begun = Instant::now();
    let mut killed = 0;
    while begun.elapsed() < 4 * window {
        let at = [2, 0, 1, 1, 2, 0][killed % 6];
        nodes.kill(at);
        *addresses[at].lock().unwrap() = nodes.all[at].gateway.clone();
        nodes.wait_for_any(at);
        killed += 1;
    }
    ends.store(true, Ordering::Relaxed);
    let passed: Vec<Passed> = callers
        .into_iter()
        .flat_map(|c| c.join().unwrap())
        .collect();
    let seen = most_within(&passed, window);
    assert!(
        seen <= most,
        "{seen} of {most} in one window, {killed} times killed"
    );
    assert!(killed >= 3, "{killed}");
    // Several windows were used, and none of them was lost for good.
    assert!(
        passed.len() >= most * 2,
        "{} passed, {killed} times killed",
        passed.len()
    );
}

impl Nodes {
    /// Waits until a node answers at all.
    fn wait_for_any(&self, at: usize) {
        let node = &self.all[at];
        wait_until("the node to answer", || {
            matches!(
                node.call("GET", "/boat/places?boat=any", "", "").status,
                200 | 429
            )
        });
    }
}

#[test]
fn nodes_that_are_killed_under_load_never_let_pass_more_by_the_server() {
    let (server, _folder) = count_server();
    never_more_while_nodes_are_killed(&server.url());
}

#[test]
fn nodes_that_are_killed_under_load_never_let_pass_more_by_the_database() {
    never_more_while_nodes_are_killed("database");
}
