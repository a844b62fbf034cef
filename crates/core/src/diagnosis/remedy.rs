//! What can be done about a cause: a command that can be typed as it stands, or who must do what.

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remedy {
    pub text: String,
    /// A command that does it, whole: it can be typed as it stands. None: it is not done here.
    pub command: Option<String>,
}

impl Remedy {
    /// What is to be thought of, or done elsewhere.
    pub fn say(text: impl Into<String>) -> Self {
        Self { text: text.into(), command: None }
    }

    /// A command that does it. What only the one who asks knows stands in it as a blank: one of the words in
    /// capitals of [`Blanks`].
    pub fn run(text: impl Into<String>, command: impl Into<String>) -> Self {
        Self { text: text.into(), command: Some(command.into()) }
    }
}

/// What is known of the blanks in the commands of remedies. None: that is not known.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Blanks {
    /// `CLUSTER`: the cluster that pulls.
    pub cluster: Option<String>,
    /// `NAMESPACE`: the pod's namespace.
    pub namespace: Option<String>,
    /// `NODES`: a copy of a node's folder.
    pub nodes: Option<String>,
    /// `SECRET`: a file with the pull secret.
    pub secret: Option<String>,
    /// `DEPLOYMENTS`: where the deployments lie.
    pub deployments: Option<String>,
}

/// The blanks that somebody else knows, and what they are.
const WORDS: [(&str, &str); 9] = [
    ("CLUSTER", "the [[cluster]] to which the pod belongs"),
    ("NAMESPACE", "the pod's namespace"),
    ("NODES", "a copy of the node's folder"),
    ("SECRET", "a file with the pull secret"),
    ("DEPLOYMENTS", "the folder with the deployments"),
    ("INTO", "a folder to write it into"),
    ("AUTHORITY", "the authority (PEM) that signed the larder's certificate"),
    ("CERTIFICATE", "where the node's certificate lies on it"),
    ("KEY", "where its key lies"),
];

impl Blanks {
    fn of(&self, word: &str) -> Option<String> {
        match word {
            "CLUSTER" => self.cluster.clone(),
            "NAMESPACE" => self.namespace.clone(),
            "NODES" => self.nodes.clone(),
            "SECRET" => self.secret.clone(),
            "DEPLOYMENTS" => self.deployments.clone(),
            "INTO" => self.cluster.as_ref().map(|cluster| format!("handoff-{cluster}")),
            _ => None,
        }
    }

    /// The remedy with what is known. Where something is not, it is no command any more: it says what is to be typed, and
    /// what belongs into it.
    #[must_use]
    pub fn fill(&self, remedy: Remedy) -> Remedy {
        let Remedy { text, command: Some(command) } = remedy else { return remedy };
        let words: Vec<&str> = command.split(' ').collect();
        let mut filled: Vec<String> = Vec::new();
        let mut open: Vec<&str> = Vec::new();
        for word in &words {
            let Some((blank, what)) = WORDS.iter().find(|(blank, _)| blank == word) else {
                filled.push((*word).to_owned());
                continue;
            };
            match self.of(blank) {
                Some(value) => filled.push(quoted(&value)),
                // Who names none asks about the cluster as a whole.
                None if *blank == "NAMESPACE" && !words.contains(&"move") => {
                    filled.pop();
                }
                None => {
                    filled.push((*blank).to_owned());
                    if !open.contains(what) {
                        open.push(what);
                    }
                }
            }
        }
        let command = filled.join(" ");
        if open.is_empty() {
            return Remedy { text, command: Some(command) };
        }
        let named: Vec<String> = WORDS
            .iter()
            .filter(|(_, what)| open.contains(what))
            .map(|(blank, what)| format!("{blank} is {what}"))
            .collect();
        Remedy::say(format!("{text}: `{command}`, where {}", named.join(", and ")))
    }
}

/// A word as a shell takes it for one.
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@=+,%".contains(c);
    match !word.is_empty() && word.chars().all(plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\\''")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_known_is_filled_in_and_what_is_not_is_said() {
        let remedy =
            || Remedy::run("write it anew", "larder handoff write CLUSTER --nodes --into INTO");
        let known = Blanks { cluster: Some("turbine-hall".into()), ..Blanks::default() };
        let command = known.fill(remedy()).command.unwrap();
        assert_eq!(
            command,
            "larder handoff write turbine-hall --nodes --into handoff-turbine-hall"
        );
        let unknown = Blanks::default().fill(remedy());
        assert_eq!(unknown.command, None);
        assert_eq!(
            unknown.text,
            "write it anew: `larder handoff write CLUSTER --nodes --into INTO`, where CLUSTER is the [[cluster]] to which \
             the pod belongs, and INTO is a folder to write it into"
        );
        let explain = Remedy::run(
            "see",
            "larder policy explain a/b:1 --cluster CLUSTER --namespace NAMESPACE",
        );
        let whole = known.fill(explain).command.unwrap();
        assert_eq!(whole, "larder policy explain a/b:1 --cluster turbine-hall");
        let odd = Blanks { nodes: Some("a b/it's".into()), ..Blanks::default() };
        let command = odd.fill(Remedy::run("see", "larder check --nodes NODES")).command.unwrap();
        assert_eq!(command, "larder check --nodes 'a b/it'\\''s'");
    }
}
