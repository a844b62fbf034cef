//! What was found, for people.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::advisory::Severity;

use super::{AdvisoryCheck, CheckedImage, Finding, Order, User};
use crate::commands::inventory::step;
use crate::context::now;
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, Table, WARN, ago, count, date, paint};

/// What cannot be compared is listed up to here.
const LISTED: usize = 20;

impl Report for AdvisoryCheck {
    const KIND: &'static str = "advisory-check";

    fn show(&self, out: &Output) {
        match self.order {
            Order::Image => self.images.iter().for_each(|image| image.show(out)),
            Order::Advisory => self.by_advisory(out),
        }
        self.summary(out);
        for feed in &self.feeds {
            out.note(paint(DIM, feed.line()));
        }
    }
}

fn severity(one: &Finding) -> String {
    let words = one
        .score
        .map_or_else(|| one.severity.to_owned(), |score| format!("{} {score:.1}", one.severity));
    match one.rank {
        _ if one.is_hidden() => paint(DIM, words),
        Severity::Critical | Severity::High => paint(BAD, words),
        Severity::Medium => paint(WARN, words),
        _ => words,
    }
}

fn layer(one: &Finding) -> String {
    let shared = match one.shared_count {
        0 => "own".to_owned(),
        others => format!("shared with {}", count(others, "other")),
    };
    format!("{}, {shared}", one.layer)
}

fn mended(one: &Finding) -> String {
    let tag = |name: &str| name.rsplit(':').next().unwrap_or(name).to_owned();
    match (one.mended_by.first(), one.mended_upstream.first()) {
        (Some(name), _) => paint(GOOD, tag(name)),
        (None, Some(there)) if there.locked => format!("{}, locked", tag(&there.image)),
        (None, Some(there)) => format!("{}, upstream", tag(&there.image)),
        (None, None) => "-".to_owned(),
    }
}

fn user(user: &User) -> String {
    let who = user.who.as_deref().unwrap_or("somebody who did not sign in");
    let workload = user.workload.as_deref().map_or(String::new(), |text| format!(" {text}"));
    let day = |at: i64| at / (24 * 3_600_000);
    let since = match user.first {
        Some(first) if day(first) != day(user.last) => format!(", since {}", date(first)),
        _ => String::new(),
    };
    format!("{who}{workload} ({}, {}{since}): {}", user.how, ago(user.last, now()), user.image)
}

impl CheckedImage {
    /// One name, and how many others it has.
    fn short_name(&self) -> String {
        match self.names.as_slice() {
            [] => self.digest.clone(),
            [name] => name.clone(),
            [name, others @ ..] => format!("{name} and {}", count(others.len(), "other name")),
        }
    }

    fn title(&self) -> String {
        let name = match self.names.as_slice() {
            [] => self.digest.clone(),
            names => names.join(", "),
        };
        let platform = self.platform.as_ref().map_or(String::new(), |one| format!(" for {one}"));
        format!("{}{platform}", paint(STRONG, name))
    }

    fn show(&self, out: &Output) {
        out.result(self.title());
        if self.findings.is_empty() {
            out.result("  no advisory that was taken in is about what was read of it");
        } else {
            let columns = [
                "  SEVERITY",
                "ADVISORY",
                "KIND",
                "PACKAGE",
                "VERSION",
                "FIXED IN",
                "LAYER",
                "MENDED BY",
            ];
            let mut table = Table::new(out.width(), &columns).sparing(&["KIND", "LAYER"]);
            for one in &self.findings {
                table.row([
                    format!("  {}", severity(one)),
                    one.advisory.to_string(),
                    one.kind.to_owned(),
                    one.package.clone(),
                    one.version.clone(),
                    one.fixed_version.clone().unwrap_or_else(|| "-".to_owned()),
                    layer(one),
                    mended(one),
                ]);
            }
            out.table(&table);
        }
        let mut told = BTreeSet::new();
        for one in &self.findings {
            if let Some(command) = &one.command
                && told.insert(one.layer)
            {
                out.result(format!("  layer {} is of  {}", one.layer, paint(DIM, step(command))));
            }
        }
        for one in &self.findings {
            let is_plain = one.installed.iter().all(|installed| *installed == one.package);
            if !is_plain {
                let names = one.installed.iter().take(LISTED).cloned().collect::<Vec<_>>();
                let more = one.installed.len() - names.len();
                let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                out.result(format!("  {} is here as  {}{more}", one.package, names.join(", ")));
            }
        }
        for one in &self.findings {
            let Some(statement) = &one.statement else { continue };
            let status = statement.status.replace('_', " ");
            let because = match statement.because.as_str() {
                "" => String::new(),
                because => format!(": {}", because.replace('_', " ")),
            };
            let counts = if statement.hides { "hidden" } else { "not hidden" };
            let (author, feed) = (&statement.author, &statement.feed);
            out.result(format!(
                "  {counts}  {} of {}, which {author} calls {status}{because} (feed {feed})",
                one.advisory, one.package
            ));
        }
        for one in self.unknown.iter().take(LISTED) {
            out.result(format!(
                "  {}  {} of {} {} {}: {}",
                paint(WARN, "unknown"),
                one.advisory,
                one.kind,
                one.package,
                one.version,
                one.cause
            ));
        }
        if self.unknown.len() > LISTED {
            let more = self.unknown.len() - LISTED;
            out.result(format!("  and {more} more that are unknown; `--json` has all"));
        }
        if self.not_read > 0 {
            let parts = count(self.not_read, "part");
            let told = paint(WARN, "not read");
            out.result(format!(
                "  {told}  {parts}: there may be more; `larder inventory` says why"
            ));
        }
        for one in &self.users {
            out.result(format!("  used by  {}", user(one)));
        }
        out.result("");
    }
}

impl AdvisoryCheck {
    /// Who is touched by each.
    fn by_advisory(&self, out: &Output) {
        type Touched<'c> = Vec<(&'c CheckedImage, &'c Finding)>;
        let mut all: BTreeMap<(std::cmp::Reverse<Severity>, &str), Touched> = BTreeMap::new();
        for image in &self.images {
            for one in &image.findings {
                let key = (std::cmp::Reverse(one.rank), &*one.advisory);
                all.entry(key).or_default().push((image, one));
            }
        }
        for ((_, name), touched) in all {
            let Some((_, first)) = touched.first() else { continue };
            let title = paint(STRONG, name);
            out.result(format!("{title}  {}  {}", severity(first), first.summary));
            let columns = ["  IMAGE", "PACKAGE", "VERSION", "FIXED IN", "LAYER", "MENDED BY"];
            let mut table = Table::new(out.width(), &columns).sparing(&["LAYER"]);
            let mut users: BTreeSet<String> = BTreeSet::new();
            let mut layers: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
            for (image, one) in &touched {
                let image_name = image.short_name();
                let platform =
                    image.platform.as_ref().map_or(String::new(), |one| format!(" {one}"));
                let hidden = if one.is_hidden() { " (hidden)" } else { "" };
                table.row([
                    format!("  {image_name}{platform}{hidden}"),
                    format!("{} {}", one.kind, one.package),
                    one.version.clone(),
                    one.fixed_version.clone().unwrap_or_else(|| "-".to_owned()),
                    layer(one),
                    mended(one),
                ]);
                users.extend(image.users.iter().map(user));
                if let Some(digest) = &one.layer_digest {
                    layers.entry(digest).or_default().insert(image_name.clone());
                }
            }
            out.table(&table);
            for (digest, images) in layers.iter().filter(|(_, images)| images.len() > 1) {
                let short: String = digest.chars().skip("sha256:".len()).take(12).collect();
                let names: Vec<&str> = images.iter().map(String::as_str).collect();
                out.result(format!("  layer {short} brings it into {}", names.join(", ")));
            }
            for one in users {
                out.result(format!("  used by  {one}"));
            }
            out.result("");
        }
    }

    fn summary(&self, out: &Output) {
        let mut by_severity: BTreeMap<Severity, usize> = BTreeMap::new();
        let (mut hidden, mut unknown, mut advisories) = (0, 0, BTreeSet::new());
        for image in &self.images {
            unknown += image.unknown.len();
            for one in &image.findings {
                match one.is_hidden() {
                    true => hidden += 1,
                    false => *by_severity.entry(one.rank).or_default() += 1,
                }
                advisories.insert(&one.advisory);
            }
        }
        // The platforms of one image count once.
        let touched = self.images.iter().filter(|image| !image.findings.is_empty());
        let touched: BTreeSet<&String> =
            touched.map(|image| image.names.first().unwrap_or(&image.digest)).collect();
        let images = count(touched.len(), "image");
        let counted: Vec<String> = by_severity
            .iter()
            .rev()
            .map(|(severity, number)| match severity {
                Severity::Unknown => format!("{number} of unknown severity"),
                severity => format!("{number} {severity}"),
            })
            .collect();
        let is_open =
            !self.not_read.is_empty() || self.images.iter().any(|image| image.not_read > 0);
        let mut line = match counted.as_slice() {
            [] if is_open => "nothing that was read is touched by what was taken in".to_owned(),
            [] => "no image is touched by what was taken in".to_owned(),
            counted => {
                let of = match advisories.len() {
                    1 => "1 advisory".to_owned(),
                    number => format!("{number} advisories"),
                };
                format!("{images} touched by {of}: {}", counted.join(", "))
            }
        };
        if hidden > 0 {
            line.push_str(&format!("; {hidden} hidden"));
        }
        if unknown > 0 {
            line.push_str(&format!("; {unknown} that cannot be compared"));
        }
        out.result(line);
        self.best_layer(out);
        if !self.not_read.is_empty() {
            let images = count(self.not_read.len(), "image");
            let told = paint(WARN, "not read whole");
            let names: Vec<&str> = self.not_read.iter().take(5).map(String::as_str).collect();
            let more = if self.not_read.len() > names.len() || self.not_read_is_cut {
                " and others"
            } else {
                ""
            };
            out.result(format!(
                "{told}: {images}, which may have more ({}{more}); `larder inventory --fill` reads layers, `larder inventory REF` says what cannot be read",
                names.join(", ")
            ));
        }
    }

    /// The layer whose renewal would mend most, where several images have it.
    fn best_layer(&self, out: &Output) {
        let mut layers: BTreeMap<&str, (usize, BTreeSet<&str>)> = BTreeMap::new();
        let mut all = 0;
        for image in &self.images {
            for one in image.findings.iter().filter(|one| !one.is_hidden()) {
                all += 1;
                let Some(digest) = &one.layer_digest else { continue };
                let (number, names) = layers.entry(digest).or_default();
                *number += 1;
                names.extend(image.names.iter().map(String::as_str));
                names.extend(one.shared_with.iter().map(String::as_str));
            }
        }
        let best = layers.iter().filter(|(_, (_, names))| names.len() > 1);
        let Some((digest, (number, names))) = best.max_by_key(|(_, (number, _))| *number) else {
            return;
        };
        let short: String = digest.chars().skip("sha256:".len()).take(12).collect();
        out.result(format!(
            "a newer base in the place of layer {short} would mend {number} of {all}, in {}",
            count(names.len(), "image")
        ));
    }
}
