//! The drawings of a report, as SVG for the page. No text from outside is drawn: names stand beside them.

use plotters::prelude::*;

use super::figures::{Figures, day};
use super::service::ServiceHour;
use crate::failure::Failure;

const SIZE: (u32, u32) = (760, 260);
const DAY: i64 = 24 * 3_600_000;
/// Lines of one drawing; what comes after them is added up.
pub const LINES: usize = 7;
/// Told apart on light and on dark ground, also by most who see fewer colours.
pub const COLOURS: [(u8, u8, u8); LINES + 1] = [
    (68, 119, 170),
    (238, 102, 119),
    (34, 136, 51),
    (204, 187, 68),
    (102, 204, 238),
    (170, 51, 119),
    (230, 159, 0),
    (136, 136, 136),
];

/// A drawing, and whose colours its lines have.
pub struct Plot {
    pub svg: String,
    pub legend: Vec<LegendEntry>,
}

pub struct LegendEntry {
    pub name: String,
    pub colour: String,
}

fn legend(names: &[String]) -> Vec<LegendEntry> {
    let entry = |(name, (r, g, b)): (&String, &(u8, u8, u8))| LegendEntry {
        name: name.clone(),
        colour: format!("#{r:02x}{g:02x}{b:02x}"),
    };
    names.iter().zip(&COLOURS).map(entry).collect()
}

fn colour(at: usize) -> RGBColor {
    let (r, g, b) = COLOURS[at.min(LINES)];
    RGBColor(r, g, b)
}

/// The text's black becomes the page's own colour; the size is the page's too.
fn fitted(svg: &str) -> String {
    let (width, height) = SIZE;
    svg.replacen(
        &format!("width=\"{width}\" height=\"{height}\""),
        "class=\"plot\" role=\"img\"",
        1,
    )
    .replace("#000000", "currentColor")
}

fn failed(error: impl std::fmt::Display) -> Failure {
    Failure::usage("cannot draw the report", error, "")
}

/// The ends of an axis from 0 to a little above the highest value.
fn height(most: u64) -> u64 {
    most.saturating_add(most / 10).max(1)
}

/// How the shelves grew. None: there are fewer than two moments to draw.
pub fn growth(figures: &Figures) -> Result<Option<Plot>, Failure> {
    let mut shelves: Vec<(String, Vec<(i64, u64)>)> = figures
        .growth
        .iter()
        .map(|one| {
            let points = one.points.iter().map(|point| (point.millis, point.size_bytes)).collect();
            (one.shelf.clone(), points)
        })
        .collect();
    shelves.sort_by_key(|(_, points): &(String, Vec<(i64, u64)>)| {
        std::cmp::Reverse(points.last().map_or(0, |(_, size)| *size))
    });
    shelves.truncate(LINES);
    let most = shelves.iter().flat_map(|(_, points)| points).map(|(_, size)| *size).max();
    lines(&shelves, unit(most.unwrap_or_default()))
}

/// What the larders answered, hour by hour. None: there are fewer than two hours to draw.
pub fn service(figures: &Figures) -> Result<Option<Plot>, Failure> {
    // The hour that runs is not over.
    let running = crate::context::now().div_euclid(DAY / 24) * (DAY / 24);
    let hours: Vec<&ServiceHour> =
        figures.service.hours.iter().filter(|hour| hour.millis < running).collect();
    let line = |name: &str, of: fn(&ServiceHour) -> u64| {
        (name.to_owned(), hours.iter().map(|hour| (hour.millis, of(hour))).collect())
    };
    let all = [
        line("requests", |hour| hour.requests),
        line("failed", |hour| hour.failed),
        line("refused", |hour| hour.refused),
    ];
    lines(&all, (1, ""))
}

/// Lines over time, each with its name. `unit`: what the axis counts in. None: there are fewer than two moments.
fn lines(
    all: &[(String, Vec<(i64, u64)>)],
    (unit, name): (u64, &'static str),
) -> Result<Option<Plot>, Failure> {
    let points = || all.iter().flat_map(|(_, points)| points);
    let (Some(first), Some(last)) =
        (points().map(|(at, _)| *at).min(), points().map(|(at, _)| *at).max())
    else {
        return Ok(None);
    };
    if first == last {
        return Ok(None);
    }
    let most = points().map(|(_, size)| *size).max().unwrap_or_default();
    #[expect(clippy::cast_precision_loss, reason = "a drawing is less precise")]
    let scaled = |size: u64| size as f64 / unit as f64;
    // Round numbers of days, or of hours.
    let step = if last - first < 3 * DAY { DAY / 24 } else { DAY };
    #[expect(clippy::cast_precision_loss, reason = "a drawing is less precise")]
    let when = |at: i64| at as f64 / step as f64;
    let top = (scaled(most) * 1.1).max(1.0);
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
        let mut chart = ChartBuilder::on(&area)
            .margin(8)
            .margin_right(44)
            .x_label_area_size(28)
            .y_label_area_size(80)
            .build_cartesian_2d(when(first)..when(last), 0.0..top)
            .map_err(failed)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(RGBColor(136, 136, 136).mix(0.3))
            .axis_style(RGBColor(136, 136, 136))
            .x_labels(6)
            .y_labels(5)
            .label_style(("sans-serif", 13))
            .x_label_formatter(&|at| moment(at.round(), step))
            .y_label_formatter(&|size| match top < 5.0 && unit > 1 {
                true => format!("{size:.1} {name}"),
                false => format!("{size:.0} {name}"),
            })
            .draw()
            .map_err(failed)?;
        for (at, (_, points)) in all.iter().enumerate() {
            let points: Vec<(f64, f64)> =
                points.iter().map(|(at, size)| (when(*at), scaled(*size))).collect();
            let dots = points.iter().map(|point| Circle::new(*point, 2, colour(at).filled()));
            chart.draw_series(dots).map_err(failed)?;
            let line = LineSeries::new(points.iter().copied(), colour(at).stroke_width(2));
            chart.draw_series(line).map_err(failed)?;
        }
        area.present().map_err(failed)?;
    }
    let names: Vec<String> = all.iter().map(|(name, _)| name.clone()).collect();
    Ok(Some(Plot { svg: fitted(&svg), legend: legend(&names) }))
}

/// The largest binary unit of which a size has one, and its name.
fn unit(size: u64) -> (u64, &'static str) {
    let names = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
    let power = (size.max(1).ilog2() / 10) as usize;
    (1 << (10 * power), names[power.min(names.len() - 1)])
}

/// A moment on an axis, counted in steps: with its hour where these are hours.
fn moment(steps: f64, step: i64) -> String {
    #[expect(clippy::cast_possible_truncation, reason = "it was made of whole ones")]
    let text = crate::output::time((steps as i64).saturating_mul(step));
    match step < DAY {
        true => text.get(5..16).unwrap_or_default().replace('T', " "),
        false => text.get(..10).unwrap_or_default().to_owned(),
    }
}

/// The pulls of each day, by cluster. None: there were none.
pub fn pulls(figures: &Figures) -> Result<Option<Plot>, Failure> {
    let mut by: std::collections::BTreeMap<&str, u64> = std::collections::BTreeMap::new();
    for one in &figures.pulls {
        *by.entry(&one.who).or_default() += one.pulls;
    }
    let mut names: Vec<(&str, u64)> = by.into_iter().collect();
    names.sort_by_key(|(name, pulls)| (std::cmp::Reverse(*pulls), *name));
    let mut names: Vec<String> = names.into_iter().map(|(name, _)| name.to_owned()).collect();
    if names.len() > LINES {
        names.truncate(LINES);
        names.push("all others".to_owned());
    }
    let Some(last) = figures.pulls.iter().map(|one| one.number).max() else { return Ok(None) };
    let last = last.max(crate::context::now().div_euclid(DAY));
    let first = last - figures.days.clamp(7, 90) + 1;
    let mut days: std::collections::BTreeMap<i64, Vec<u64>> = std::collections::BTreeMap::new();
    for one in figures.pulls.iter().filter(|one| one.number >= first) {
        let place = names.iter().position(|name| *name == one.who).unwrap_or(names.len() - 1);
        let counts = days.entry(one.number).or_insert_with(|| vec![0; names.len()]);
        counts[place] += one.pulls;
    }
    let most = height(days.values().map(|counts| counts.iter().sum::<u64>()).max().unwrap_or(1));
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
        let width = 1000;
        let mut chart = ChartBuilder::on(&area)
            .margin(8)
            .x_label_area_size(28)
            .y_label_area_size(80)
            .build_cartesian_2d(first * width..(last + 1) * width, 0..most)
            .map_err(failed)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(RGBColor(136, 136, 136).mix(0.3))
            .axis_style(RGBColor(136, 136, 136))
            .x_labels(7)
            .y_labels(5)
            .label_style(("sans-serif", 13))
            .x_label_formatter(&|at| day(at.div_euclid(width)))
            .draw()
            .map_err(failed)?;
        for (number, counts) in days {
            let mut from = 0;
            for (at, count) in counts.into_iter().enumerate().filter(|(_, count)| *count > 0) {
                let corners = [(number * width + 100, from), (number * width + 900, from + count)];
                from += count;
                let bar = Rectangle::new(corners, colour(at).filled());
                chart.draw_series(std::iter::once(bar)).map_err(failed)?;
            }
        }
        area.present().map_err(failed)?;
    }
    Ok(Some(Plot { svg: fitted(&svg), legend: legend(&names) }))
}
