//! The steps of each place.

use larder_core::chart::version_of;

use super::{GuideFacts, GuideFile, GuidePlace, GuideStep};

/// Where people put the authority that signed the larder's certificate.
const AUTHORITY: &str = "larder-ca.pem";

/// What has to be done.
pub(super) fn steps(place: GuidePlace, facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let mut steps = match place {
        GuidePlace::Laptop => laptop(facts),
        GuidePlace::Node => node(facts),
        GuidePlace::Pipeline => pipeline(facts),
        GuidePlace::Charts => charts(facts),
        GuidePlace::Cluster => cluster(facts),
        GuidePlace::Http => http(facts),
    };
    if !facts.is_https && facts.user.is_some() {
        let text = format!(
            "{} is plain HTTP: keys cross the network readable. Do this only where nobody else is on the way, or give the larder `tls` first",
            facts.url
        );
        steps.insert(0, GuideStep::told(text));
    }
    steps
}

impl GuideStep {
    fn told(text: impl Into<String>) -> Self {
        Self { text: text.into(), commands: Vec::new(), file: None }
    }

    fn typed(text: impl Into<String>, commands: &[String]) -> Self {
        Self { text: text.into(), commands: commands.to_vec(), file: None }
    }
}

/// The call that issues a key for somebody.
fn issue(facts: &GuideFacts<'_>, user: &str) -> String {
    match (facts.cluster, user.split_once('/')) {
        (Some(cluster), Some((_, namespace))) => {
            format!(
                "larder key issue --cluster {cluster} --namespace {namespace} --into key --expires 90d"
            )
        }
        (Some(cluster), None) => {
            format!("larder key issue --cluster {cluster} --into key --expires 90d")
        }
        (None, _) => format!("larder key issue --account {user} --into key --expires 90d"),
    }
}

/// How somebody comes by a key.
fn key(facts: &GuideFacts<'_>) -> Option<GuideStep> {
    let user = facts.user.as_ref()?;
    let text = format!(
        "At the larder, once: issue a key for {user}, and bring the file `key` there in a way that nobody else reads. Nobody can print it again"
    );
    Some(GuideStep::typed(text, &[issue(facts, user)]))
}

fn authority(facts: &GuideFacts<'_>, commands: &[String]) -> Option<GuideStep> {
    let text = format!(
        "Where the larder's certificate comes from an authority of your own: put that authority's certificate ({AUTHORITY}) where the client looks for it"
    );
    facts.is_https.then(|| GuideStep::typed(text, commands))
}

/// Each container engine has a command of its own name, with the same words behind it.
fn engine() -> GuideStep {
    GuideStep::typed(
        "The command of your container engine, for what follows",
        &["ENGINE=…".to_owned()],
    )
}

fn laptop(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let host = &facts.host;
    let mut steps = vec![engine()];
    steps.extend(key(facts));
    let folder = format!("/etc/containers/certs.d/{host}");
    steps.extend(authority(
        facts,
        &[format!("mkdir -p {folder}"), format!("cp {AUTHORITY} {folder}/ca.crt")],
    ));
    let plain = if facts.is_https { "" } else { " --tls-verify=false" };
    if let Some(user) = &facts.user {
        steps.push(GuideStep::typed(
            "Sign in; the engine keeps the login in its sign-in file",
            &[format!("$ENGINE login{plain} --username {user} --password-stdin {host} < key")],
        ));
        let content = format!(
            "{{ \"auths\": {{ \"{host}\": {{ \"auth\": \"BASE64\" }} }} }}\n# BASE64 is what this prints: printf '{user}:%s' \"$(cat key)\" | base64 -w0"
        );
        let file = GuideFile { path: "~/.config/containers/auth.json, mode 0600".into(), content };
        steps.push(GuideStep {
            text: "Or write that file yourself".into(),
            commands: Vec::new(),
            file: Some(file),
        });
    }
    steps.push(GuideStep::typed("Pull", &[format!("$ENGINE pull{plain} {host}/{}", facts.pulled)]));
    if let Some(pushed) = &facts.pushed {
        steps.push(GuideStep::typed(
            "Push",
            &[
                format!("$ENGINE tag IMAGE {host}/{pushed}:TAG"),
                format!("$ENGINE push{plain} {host}/{pushed}:TAG"),
            ],
        ));
    }
    steps
}

fn node(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let cluster = facts.cluster.unwrap_or("CLUSTER");
    let authority = if facts.is_https { format!(" --ca {AUTHORITY}") } else { String::new() };
    vec![
        GuideStep::typed(
            "At the larder: write the files that the nodes read. NODES.md beside them says where each goes, and how to undo it",
            &[
                format!("larder handoff write {cluster} --nodes{authority} --into nodes-{cluster}"),
                format!("larder check --nodes nodes-{cluster}"),
            ],
        ),
        GuideStep::typed(
            "On each node, with a runtime that reads a folder for each registry: copy it, and name the folder once in the runtime's configuration as NODES.md shows",
            &[format!("cp -R nodes-{cluster}/. /etc/containerd/certs.d/")],
        ),
        GuideStep::typed(
            "On the node: read it as the runtime does; what it would silently skip is told",
            &["larder check --nodes /etc/containerd/certs.d".to_owned()],
        ),
        GuideStep::told(format!(
            "Pods now pull {}/{} with the pull secret of their namespace: `larder handoff guide --for cluster --cluster {cluster}`",
            facts.host, facts.pulled
        )),
    ]
}

fn pipeline(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let host = &facts.host;
    let mut steps = vec![engine()];
    let plain = if facts.is_https { "" } else { " --tls-verify=false" };
    match (&facts.user, &facts.audience) {
        (Some(user), Some(audience)) => {
            steps.push(GuideStep::told(format!(
                "Have the build system give the job an identity token whose audience is {audience}. Nothing secret is stored: the larder takes that token as the password of {user}, where it says what `where` in larder.toml wants"
            )));
            steps.push(GuideStep::typed(
                "In the job: sign in with it, here in the variable JOB_TOKEN",
                &[format!(
                    "printf '%s' \"$JOB_TOKEN\" | $ENGINE login{plain} --username {user} --password-stdin {host}"
                )],
            ));
        }
        (Some(user), None) => {
            steps.extend(key(facts));
            steps.push(GuideStep::told(
                "Store what is in the file as a masked secret of the build system, here LARDER_KEY, and remove the file. With `identity` of the [[account]] nothing has to be stored at all",
            ));
            steps.push(GuideStep::typed(
                "In the job: sign in",
                &[format!(
                    "printf '%s' \"$LARDER_KEY\" | $ENGINE login{plain} --username {user} --password-stdin {host}"
                )],
            ));
        }
        (None, _) => {}
    }
    steps.extend(authority(
        facts,
        &[
            format!("mkdir -p /etc/containers/certs.d/{host}"),
            format!("cp {AUTHORITY} /etc/containers/certs.d/{host}/ca.crt"),
        ],
    ));
    steps.push(GuideStep::typed("Pull", &[format!("$ENGINE pull{plain} {host}/{}", facts.pulled)]));
    if let Some(pushed) = &facts.pushed {
        steps.push(GuideStep::typed(
            "Push what the job has built",
            &[format!("$ENGINE push{plain} IMAGE {host}/{pushed}:TAG")],
        ));
    }
    steps.push(GuideStep::typed(
        "Check in the same job what the deployments name, before a cluster refuses it",
        &["larder policy check deploy/".to_owned()],
    ));
    steps
}

fn charts(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let host = &facts.host;
    let mut steps = vec![GuideStep::typed(
        "The command of the chart client, for what follows; it must speak to registries",
        &["CHARTS=…".to_owned()],
    )];
    steps.extend(key(facts));
    steps.extend(authority(
        facts,
        &[format!("# most clients take it by an option, as `--ca-file {AUTHORITY}`")],
    ));
    if let Some(user) = &facts.user {
        steps.push(GuideStep::typed(
            "Sign in",
            &[format!("$CHARTS registry login --username {user} --password-stdin {host} < key")],
        ));
    }
    let (pulled, _) = facts.pulled.rsplit_once(':').unwrap_or((&facts.pulled, ""));
    let folder = pulled.rsplit_once('/').map_or("SHELF", |(folder, _)| folder);
    let (chart, version) = match facts.chart.as_ref().and_then(|chart| chart.rsplit_once(':')) {
        Some((chart, tag)) => (chart.to_owned(), version_of(tag)),
        None => match &facts.pushed {
            Some(pushed) => (pushed.clone(), "VERSION".to_owned()),
            None => (format!("{folder}/NAME"), "VERSION".to_owned()),
        },
    };
    steps.push(GuideStep::typed(
        "Pull a chart",
        &[format!("$CHARTS pull oci://{host}/{chart} --version {version}")],
    ));
    if let Some(place) = &facts.pushed {
        let (folder, name) = place.rsplit_once('/').unwrap_or(("SHELF", place));
        steps.push(GuideStep::typed(
            "Push one",
            &[format!("$CHARTS push {name}-VERSION.tgz oci://{host}/{folder}")],
        ));
    }
    steps
}

fn cluster(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let cluster = facts.cluster.unwrap_or("CLUSTER");
    let declared = facts.config.cluster(cluster);
    let namespace = facts.user.as_ref().and_then(|user| user.split_once('/'));
    let namespace = namespace.map(|(_, name)| format!(" --namespace {name}")).unwrap_or_default();
    let mut steps = Vec::new();
    if facts.user.is_some() {
        steps.push(GuideStep::typed(
            "See what would be made: a pull secret with a key of its own in each namespace, and the service accounts that use it",
            &[format!("larder handoff apply {cluster} --dry-run")],
        ));
        steps.push(GuideStep::typed(
            "Make it, through the cluster's API; or as files, where that cannot be reached from here",
            &[
                format!("larder handoff apply {cluster}"),
                format!("larder handoff write {cluster} --into handoff-{cluster}"),
            ],
        ));
        steps.push(GuideStep::typed(
            "From then on: compare, and renew keys before they end, by a timer",
            &[
                format!("larder handoff check {cluster}"),
                format!("larder handoff apply {cluster} --rotate-before 14d"),
            ],
        ));
    }
    if !facts.is_https || declared.is_some_and(|one| one.certificate.is_some()) {
        steps.push(GuideStep::typed(
            "Tell its nodes how the larder is reached",
            &[format!("larder handoff guide --for node --cluster {cluster}")],
        ));
    }
    steps.push(GuideStep::typed(
        "Lead deployments here: first as a diff, then in the files",
        &["larder rewrite deploy/".to_owned(), "larder rewrite deploy/ --write".to_owned()],
    ));
    steps.push(GuideStep::typed(
        "Would it be pulled? As a pod of that cluster would ask",
        &[format!("larder why {}/{} --cluster {cluster}{namespace}", facts.host, facts.pulled)],
    ));
    steps
}

fn http(facts: &GuideFacts<'_>) -> Vec<GuideStep> {
    let url = &facts.url;
    let mut steps = Vec::new();
    steps.extend(key(facts));
    let mut call = "curl --silent --show-error --fail".to_owned();
    if facts.is_https {
        call.push_str(&format!(" --cacert {AUTHORITY}"));
        steps.push(GuideStep::told(format!(
            "`--cacert {AUTHORITY}` names the authority that signed the larder's certificate; leave it out where the system knows it"
        )));
    }
    if let Some(user) = &facts.user {
        steps.push(GuideStep::typed(
            "The login goes to a file that nobody else reads, so that no process list shows it",
            &[
                "umask 077".to_owned(),
                format!("printf 'user = \"{user}:%s\"\\n' \"$(cat key)\" > login"),
            ],
        ));
        call.push_str(" --config login");
    }
    let (repository, tag) = facts.pulled.rsplit_once(':').unwrap_or((&facts.pulled, "TAG"));
    steps.push(GuideStep::typed(
        "Its tags, its manifest, and one of the blobs that this names",
        &[
            format!("{call} {url}/v2/{repository}/tags/list"),
            format!(
                "{call} --header 'Accept: application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json' {url}/v2/{repository}/manifests/{tag}"
            ),
            format!("{call} --location --output blob {url}/v2/{repository}/blobs/DIGEST"),
        ],
    ));
    if let Some(pushed) = &facts.pushed {
        steps.push(GuideStep::typed(
            "Push a file as a blob, in one piece; a manifest that names it then makes it an image or an artifact",
            &[
                "DIGEST=sha256:$(sha256sum FILE | cut -d ' ' -f 1)".to_owned(),
                format!(
                    "{call} --request POST --header 'Content-Type: application/octet-stream' --data-binary @FILE \"{url}/v2/{pushed}/blobs/uploads/?digest=$DIGEST\""
                ),
                format!(
                    "{call} --request PUT --header 'Content-Type: application/vnd.oci.image.manifest.v1+json' --data-binary @manifest.json {url}/v2/{pushed}/manifests/TAG"
                ),
            ],
        ));
    }
    steps.push(GuideStep::told(
        "A refusal says in its `errors` what was refused and why, with a number that `larder log NUMBER` finds",
    ));
    steps
}
