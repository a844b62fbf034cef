//! What becomes of the references and the pods of one file?

use std::collections::BTreeMap;

use larder_core::reference::{Image, Reference};
use larder_core::retarget::{Answer, Left, Retarget};
use larder_core::rewrite::{Access, Change, Dialect, Finding, Role, Scan};

use super::Line;

/// What all files are decided by.
pub(super) struct Decider<'r> {
    pub retarget: Retarget<'r>,
    /// Whether references within longer texts are changed.
    pub strings: bool,
    /// The pull secret that pods get. None: none.
    pub secret: Option<String>,
    /// The images that other files of the same run name otherwise from now on.
    pub overlays: BTreeMap<Image, Image>,
}

/// What was decided for one file, beside what is told of it.
#[derive(Default)]
pub(super) struct Decided {
    pub changes: Vec<Change>,
    /// The references that could not be pinned, with the upstream's name of each.
    pub unpinned: Vec<Reference>,
    /// Images of objects that get another name.
    pub renamed: Vec<(Image, Image)>,
    /// It has an overlay's entries.
    pub overlay: bool,
}

impl Decider<'_> {
    /// Decides for each finding of a file, and for its pods.
    pub fn decide(&self, file: &str, scan: &Scan<'_>, plan: bool) -> (Vec<Line>, Decided) {
        let mut decided = Decided::default();
        let mut lines = Vec::new();
        let mut wishes = Vec::with_capacity(scan.findings.len());
        for finding in &scan.findings {
            let mut line = Line {
                file: file.to_owned(),
                row: finding.position.line,
                column: finding.position.column,
                from: finding.text.clone(),
                to: None,
                left: None,
                counts: false,
            };
            decided.overlay |= finding.dialect == Dialect::Overlay;
            let answer = match finding.role {
                // What a build makes is called so by its maker.
                Role::Built => Answer::Right,
                _ => self.retarget.answer(&finding.text, finding.tag_elsewhere),
            };
            let mut wish = None;
            match answer {
                Answer::Right => {}
                Answer::Become(new) => match self.hinders(finding) {
                    Some((why, counts)) => {
                        line.left = Some(why.to_owned());
                        line.counts = counts;
                    }
                    None => {
                        line.to = Some(new.to_string());
                        wish = Some(new);
                    }
                },
                Answer::Left(left) => {
                    if let Left::Unpinned(target) = &left {
                        decided.unpinned.push(target.clone());
                    }
                    // What may be no image at all is not missed, nor what was left out.
                    if is_certain(finding) && left != Left::NotAsked {
                        line.counts = left.counts();
                        line.left = Some(left.to_string());
                    }
                }
            }
            wishes.push(wish);
            lines.push(line);
        }
        if !plan {
            return (lines, decided);
        }
        let planned = scan.plan(&wishes);
        for (number, why) in &planned.refused {
            lines[*number].to = None;
            lines[*number].left = Some((*why).to_owned());
            lines[*number].counts = true;
        }
        decided.changes = planned.changes;
        for (finding, line) in scan.findings.iter().zip(&lines) {
            if finding.dialect == Dialect::Kubernetes
                && let (Some(old), Some(new)) = (self.image(&line.from), line.to.as_ref())
                && let Some(new) = self.image(new)
            {
                decided.renamed.push((old, new));
            }
        }
        self.follow_names(scan, &mut decided);
        self.attach(file, scan, &mut lines, &mut decided);
        (lines, decided)
    }

    /// Why a finding that should change is left. True: that counts as a "no".
    fn hinders(&self, finding: &Finding) -> Option<(&'static str, bool)> {
        match (finding.role, &finding.access) {
            (Role::Template, _) => Some(("it stands in a template; change what fills it", false)),
            (_, Access::Leave(why)) => Some((why, finding.role == Role::Pulled)),
            (Role::Text, _) if !self.strings => {
                Some(("it stands within a text; `--include-strings` changes it", false))
            }
            (Role::Likely, _) if !is_certain(finding) && !self.strings => {
                Some(("it may be no image; `--include-strings` changes it", false))
            }
            _ => None,
        }
    }

    fn image(&self, text: &str) -> Option<Image> {
        let text = text.split('@').next().unwrap_or_default();
        self.retarget.read(text).map(|reference| reference.image())
    }

    /// Overlays whose images got another name in the files that they are about.
    fn follow_names(&self, scan: &Scan<'_>, decided: &mut Decided) {
        for finding in &scan.findings {
            let image = finding.overlays().and_then(|name| self.image(name));
            if let Some(new) = image.and_then(|image| self.overlays.get(&image)) {
                finding.follow(&new.to_string(), &mut decided.changes);
            }
        }
    }

    /// Puts the pull secret into the pods that pull from the larder.
    fn attach(&self, file: &str, scan: &Scan<'_>, lines: &mut Vec<Line>, decided: &mut Decided) {
        let Some(secret) = &self.secret else { return };
        let host = format!("{}/", self.retarget.host());
        for (number, pod) in scan.pods.iter().enumerate() {
            let its = |(finding, line): &(&Finding, &Line)| {
                let text = line.to.as_ref().unwrap_or(&line.from);
                finding.pod == Some(number) && text.starts_with(&host)
            };
            let Some((finding, _)) = scan.findings.iter().zip(&*lines).find(its) else { continue };
            let (row, column) = (finding.position.line, finding.position.column);
            let mut line = Line {
                file: file.to_owned(),
                row,
                column,
                from: "(no pull secret)".into(),
                to: None,
                left: None,
                counts: false,
            };
            match scan.attach(pod, secret) {
                Ok(None) => continue,
                Ok(Some(change)) => {
                    decided.changes.push(change);
                    line.to = Some(format!("imagePullSecrets: {secret}"));
                }
                Err(why) => {
                    line.left = Some(why.to_string());
                    line.counts = true;
                }
            }
            lines.push(line);
        }
    }
}

/// Whether a place is an image beyond doubt: its format says so, or it stands where values of a chart
/// or of an object name one.
fn is_certain(finding: &Finding) -> bool {
    match finding.role {
        Role::Pulled => true,
        Role::Likely => {
            finding.dialect != Dialect::Other
                || finding.text.split('/').next().is_some_and(|host| host.contains('.'))
        }
        Role::Text | Role::Built | Role::Template => false,
    }
}
