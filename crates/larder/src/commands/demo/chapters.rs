//! The chapters of the story, in their order.

use futures_util::FutureExt as _;
use futures_util::future::BoxFuture;

use super::stage::Stage;
use super::{guarded, house, signed, story, told};
use crate::failure::Failure;

/// One chapter. It rests on what those before it did.
pub struct Chapter {
    pub title: &'static str,
    /// What it is about, in one sentence.
    pub lead: &'static str,
    play: for<'s> fn(&'s mut Stage) -> BoxFuture<'s, Result<(), Failure>>,
}

macro_rules! chapters {
    ($($title:literal, $lead:literal => $play:path,)*) => {
        /// All of them.
        pub const ALL: &[Chapter] = &[$(Chapter {
            title: $title,
            lead: $lead,
            play: |stage| $play(stage).boxed(),
        }),*];
    };
}

chapters! {
    "The vendor's deployment does not run",
    "turbine-hall is air-gapped: its nodes reach no registry on the Internet." => story::the_cluster_cannot_pull,
    "Know what runs",
    "Which images do our deployments name, and where does each stand?" => story::know_what_runs,
    "Look before taking",
    "What does that tag point at, for which platforms, how large? Without pulling it." => story::look_before_taking,
    "Bring it in",
    "First the lock: what each tag resolves to today. It is reviewed and committed like code." => story::bring_it_in,
    "Serve it",
    "The larder is the registry." => story::serve_it,
    "Make deployments use it",
    "Only the references change: comments, quotes, order and line ends stay." => story::make_deployments_use_it,
    "Every dialect",
    "A team keeps a chart's values, a Compose file, a Dockerfile and a workload. One reviewable change for all of them." => story::every_dialect,
    "Next week",
    "The same run again." => story::nothing_twice,
    "Across the air gap",
    "The link to turbine-hall is taken down. From now on it has a larder of its own, fed by a disk." => story::across_the_gap,
    "Only the difference",
    "One image more is wanted. The next parcel leaves out what the receipt says is there already." => story::only_the_difference,
    "A tag moves",
    "The vendor pushes other content under 1.9.2, a tag that was thought to stand still." => story::a_tag_moves,
    "Cache on demand",
    "control-room has a link, and names upstreams as they are. Its nodes are sent through a larder that caches." => story::cached_on_demand,
    "The upstream goes down",
    "bazaar.example answers 503 to everything. New nodes want an image that was pulled before." => story::the_upstream_goes_down,
    "What moves, what is refused, what goes",
    "The upstream is back, and `kettle:2` is another image there." => story::moved_refused_and_gone,
    "A pod without a secret",
    "A larder that asks who comes: each cluster pulls what its grants name, and nothing else." => guarded::a_pod_without_a_secret,
    "The handoff",
    "A key for each namespace, in the platform's own secret, linked to its service account: one command." => guarded::the_handoff,
    "A rotation under traffic",
    "The key of a namespace is changed at noon, while new nodes pull without a pause." => guarded::a_rotation_under_traffic,
    "A rule says why",
    "A developer of the turbine hall starts a community image." => guarded::a_rule_says_why,
    "The rehearsal",
    "What would have been refused of the recorded pulls if the grants were narrower?" => guarded::the_rehearsal,
    "The door",
    "What slips through is corrected, or refused, before it becomes a pod: the cluster's API asks the larder." => guarded::the_door,
    "Who uses this?",
    "Which cluster, namespace and workload runs that image? And who would be hurt if it went?" => house::who_uses_this,
    "What is wrong with it?",
    "A vulnerability is published. Which images have it, by which layer, who runs them, and what mends it?" => house::what_is_wrong_with_it,
    "From development to production",
    "A release is promoted: by digest, with who and why." => house::promoted,
    "Signed by whom",
    "The vendor signs what it releases. From now on nothing else of theirs runs." => signed::by_the_vendor,
    "Our own approval",
    "What goes to production is signed by us too, on its way, and the door asks for it." => signed::by_us,
    "Keep the house",
    "Only the newest board stays on the developers' shelf." => house::tidied,
    "This morning",
    "One list of everything that needs a decision, worst first." => house::this_morning,
    "Four pods that look alike",
    "Four pods do not start, and their events say the same. Why?" => guarded::four_that_look_alike,
    "No stored credential",
    "The cluster's own service accounts sign in. There is nothing to hand over, to rotate or to lose." => guarded::without_stored_credentials,
    "A chart and its images",
    "The vendor's boiler room comes as a chart. What does it run?" => told::a_chart_and_its_images,
    "Somebody is told",
    "Nobody looks at a list at night: the larder tells who is on call." => told::somebody_is_told,
}

/// Plays the story; the first chapter that does not hold ends it. With a number, the chapters before that one are
/// played unseen, and it is the last.
pub async fn play(stage: &mut Stage, only: Option<usize>) -> Result<(), Failure> {
    let last = only.unwrap_or(ALL.len());
    for (number, chapter) in (1..).zip(ALL.iter().take(last)) {
        stage.begin(number, chapter, only.is_none_or(|only| only == number));
        (chapter.play)(stage).await?;
    }
    Ok(())
}
