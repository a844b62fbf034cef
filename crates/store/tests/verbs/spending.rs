//! Pulls from registries with a limit: no two spend the same.

use std::time::Duration;

use larder_core::allowance::{Afford, Allowance, Budget, ReportedLimit};
use larder_core::name::Host;
use tokio::task::JoinSet;

use super::pairs;

const MINUTE: i64 = 60_000;

fn budget(pulls: u64) -> Budget {
    let allowance = Allowance { pulls, per: Duration::from_secs(60) };
    Budget { allowance: Some(allowance), ..Budget::default() }
}

#[tokio::test]
async fn what_one_spends_the_other_has_not() {
    for pair in pairs() {
        let bazaar: Host = "bazaar.example".parse().unwrap();
        let at = 10 * MINUTE;
        let (afford, left) = pair.one.spend(&bazaar, budget(5), 3, false, at).await.unwrap();
        assert_eq!((afford, left.left(at)), (Afford::Now, Some(2)));
        let (afford, left) = pair.two.spend(&bazaar, budget(5), 3, false, at + 1).await.unwrap();
        assert_eq!((afford, left.left(at + 1)), (Afford::At(at + MINUTE), Some(2)));
        // What was not afforded was not spent, and another registry has its own limit.
        assert_eq!(pair.one.pulls(&bazaar, 0).await.unwrap(), [(at, 3)]);
        let other: Host = "other.example".parse().unwrap();
        let (afford, _) = pair.two.spend(&other, budget(5), 5, false, at).await.unwrap();
        assert_eq!(afford, Afford::Now);
        // When the time has passed it is there again.
        let later = at + MINUTE;
        let (afford, left) = pair.two.spend(&bazaar, budget(5), 5, false, later).await.unwrap();
        assert_eq!((afford, left.left(later)), (Afford::Now, Some(0)));
    }
}

#[tokio::test]
async fn an_image_beyond_every_allowance_goes_when_all_of_it_is_there() {
    for pair in pairs() {
        let bazaar: Host = "bazaar.example".parse().unwrap();
        let at = 10 * MINUTE;
        let ask = |store: &larder_store::Store, pulls, all_of, at| {
            let (store, bazaar) = (store.clone(), bazaar.clone());
            async move { store.spend(&bazaar, budget(5), pulls, all_of, at).await.unwrap().0 }
        };
        assert_eq!(ask(&pair.one, 9, false, at).await, Afford::Never(5));
        assert_eq!(ask(&pair.one, 1, false, at).await, Afford::Now);
        assert_eq!(ask(&pair.two, 9, true, at + 1).await, Afford::At(at + MINUTE));
        assert_eq!(ask(&pair.two, 9, true, at + MINUTE).await, Afford::Now);
        assert_eq!(ask(&pair.one, 1, false, at + MINUTE + 1).await, Afford::At(at + 2 * MINUTE));
    }
}

#[tokio::test]
async fn what_a_registry_says_of_itself_counts_too() {
    for pair in pairs() {
        let bazaar: Host = "bazaar.example".parse().unwrap();
        let at = 10 * MINUTE;
        let said = ReportedLimit { remaining: 2, limit: Some(100), back_in: None, at };
        let budget = Budget { reported: Some(said), ..Budget::default() };
        let (afford, left) =
            pair.one.spend(&bazaar, budget.clone(), 2, false, at + 1).await.unwrap();
        assert_eq!((afford, left.left(at + 1)), (Afford::Now, Some(0)));
        let (afford, _) = pair.two.spend(&bazaar, budget, 1, false, at + 2).await.unwrap();
        assert_eq!(afford, Afford::At(at + 60 * MINUTE));
        // Without any limit all is afforded, and noted all the same.
        let (afford, left) =
            pair.two.spend(&bazaar, Budget::default(), 7, false, at + 3).await.unwrap();
        assert_eq!((afford, left.left(at + 3)), (Afford::Now, None));
        assert_eq!(
            pair.one.pulls(&bazaar, 0).await.unwrap().iter().map(|one| one.1).sum::<u64>(),
            9
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn many_that_ask_at_once_get_no_more_than_there_is() {
    for pair in pairs() {
        let mut all = JoinSet::new();
        for number in 0..40 {
            let store = if number % 2 == 0 { pair.one.clone() } else { pair.two.clone() };
            all.spawn(async move {
                let bazaar: Host = "bazaar.example".parse().unwrap();
                let (afford, _) =
                    store.spend(&bazaar, budget(25), 1, false, 10 * MINUTE).await.unwrap();
                afford == Afford::Now
            });
        }
        assert_eq!(all.join_all().await.into_iter().filter(|got| *got).count(), 25);
    }
}
