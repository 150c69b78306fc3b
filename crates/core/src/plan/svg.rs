//! A plan as a picture: layers from left to right, a box a job, the reason of each wait in its line and its tooltip.
//! Cells of a matrix are one box. Format: SVG 1.1; colours follow the reader's light or dark setting.

use super::collapse::{Group, Link, collapse};
use super::edges::Because;
use super::value::Plan;
use crate::language::counted;
use std::collections::BTreeMap;
use std::fmt::Write;

const ROW: usize = 58;
const BOX: usize = 40;
const MARGIN: usize = 28;
const HEAD: usize = 76;
const FOOT: usize = 44;
const GAP: usize = 64;

/// Every rule is bound to the picture, so that it can stand within a page and take over its colours.
const STYLE: &str = "
  .ordotaxis-plan { --paper: #fbfaf6; --panel-box: #ffffff; --rule-line: #c9c4b8; --ink-text: #18212d; --soft-text: #5f6b7a; --accent-line: #0a6569; }
  @media (prefers-color-scheme: dark) {
    .ordotaxis-plan { --paper: #12171d; --panel-box: #181e26; --rule-line: #3a4552; --ink-text: #e8e6df; --soft-text: #9aa7b6; --accent-line: #4fc4c4; }
  }
  .ordotaxis-plan text { font: 13px system-ui, sans-serif; fill: var(--ink-text); }
  .ordotaxis-plan .title { font-size: 20px; font-weight: 600; }
  .ordotaxis-plan .soft { fill: var(--soft-text); font-size: 12px; }
  .ordotaxis-plan .name { font-weight: 600; }
  .ordotaxis-plan .paper { fill: var(--paper); }
  .ordotaxis-plan .box { fill: var(--panel-box); stroke: var(--rule-line); }
  .ordotaxis-plan .left { fill: var(--accent-line); }
  .ordotaxis-plan .out .box { fill: none; stroke-dasharray: 3 3; }
  .ordotaxis-plan .out text { fill: var(--soft-text); font-weight: 400; }
  .ordotaxis-plan .out .left { fill: var(--soft-text); }
  .ordotaxis-plan path { fill: none; stroke-width: 1.4; }
  .ordotaxis-plan .takes { stroke: var(--accent-line); }
  .ordotaxis-plan .after { stroke: var(--soft-text); stroke-dasharray: 6 4; }
  .ordotaxis-plan .order { stroke: var(--soft-text); stroke-width: 1; opacity: .55; }
  .ordotaxis-plan .dot { fill: var(--soft-text); }
";

struct Place {
    x: usize,
    y: usize,
    width: usize,
}

/// The plan as a drawing: an SVG document that needs nothing from elsewhere.
pub fn svg(plan: &Plan) -> String {
    let (groups, links) = collapse(plan);
    let layers = layers(groups.len(), &links);
    let (places, joints_x) = places(plan, &groups, &links, &layers);
    let width = places.iter().map(|place| place.x + place.width).max().unwrap_or(300).max(520) + MARGIN;
    let height = places.iter().map(|place| place.y + BOX).max().unwrap_or(HEAD) + FOOT;
    let title = plan.title.as_deref().unwrap_or(&plan.pipeline);
    let name = escaped(title);
    let mut out = format!(
        "<svg class=\"ordotaxis-plan\" xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\" role=\"img\" aria-label=\"Plan of {name}\">\n<style>{STYLE}</style>\n<rect class=\"paper\" width=\"{width}\" height=\"{height}\"/>\n"
    );
    let _ = writeln!(out, "<text class=\"title\" x=\"{MARGIN}\" y=\"36\">{name}</text>");
    let facts = format!("{} on {}", counted(plan.jobs.len(), "job"), plan.occasion.words());
    let _ = writeln!(out, "<text class=\"soft\" x=\"{MARGIN}\" y=\"56\">{}</text>", escaped(&facts));
    draw_links(plan, &groups, &links, &layers, &places, &joints_x, &mut out);
    for (group, place) in groups.iter().zip(&places) {
        draw_box(plan, group, place, &mut out);
    }
    legend(height, &links, &mut out);
    out.push_str("</svg>\n");
    out
}

/// Each group's layer: one more than the deepest it waits for.
fn layers(count: usize, links: &[Link]) -> Vec<usize> {
    let mut waits = vec![Vec::new(); count];
    links.iter().for_each(|link| waits[link.to].push(link.from));
    let order = crate::graph::topological(count, &waits).unwrap_or_else(|_| (0..count).collect());
    let mut layers = vec![0; count];
    for group in order {
        layers[group] = waits[group].iter().map(|&on| layers[on] + 1).max().unwrap_or(0);
    }
    layers
}

/// Where each box stands, and for each layer the line before it where waits are joined.
fn places(plan: &Plan, groups: &[Group], links: &[Link], layers: &[usize]) -> (Vec<Place>, Vec<usize>) {
    let count = layers.iter().max().map_or(0, |deepest| deepest + 1);
    let mut places: Vec<Place> = groups.iter().map(|group| Place { x: 0, y: 0, width: width(plan, group) }).collect();
    let (mut x, mut joints) = (MARGIN, Vec::new());
    for layer in 0..count {
        let mut members: Vec<usize> = (0..groups.len()).filter(|&group| layers[group] == layer).collect();
        // Near what they wait for, so that lines cross little.
        let wish = |group: usize| {
            let on: Vec<usize> = links.iter().filter(|link| link.to == group).map(|link| places[link.from].y).collect();
            if on.is_empty() { 0 } else { on.iter().sum::<usize>() / on.len() }
        };
        members.sort_by_key(|&group| (wish(group), group));
        let wide = members.iter().map(|&group| places[group].width).max().unwrap_or(0);
        for (row, &group) in members.iter().enumerate() {
            places[group] = Place { x, y: HEAD + row * ROW, width: wide };
        }
        joints.push(x.saturating_sub(GAP / 2));
        x += wide + GAP;
    }
    (places, joints)
}

fn names(plan: &Plan, group: &Group) -> (String, String) {
    let first = &plan.jobs[group.cells.start];
    let stage = plan.stages[group.stage].name.clone();
    let cells = group.cells.len();
    let mark = if is_out(plan, group) { " – skipped" } else { "" };
    let under = if first.cell.is_empty() { format!("{stage}{mark}") } else { format!("{stage} · {}{mark}", counted(cells, "cell")) };
    (first.name.clone(), under)
}

/// Whether none of its cells will run.
fn is_out(plan: &Plan, group: &Group) -> bool {
    plan.jobs[group.cells.clone()].iter().all(|job| job.skipped.is_some())
}

fn width(plan: &Plan, group: &Group) -> usize {
    let (name, under) = names(plan, group);
    (name.chars().count() * 8).max(under.chars().count() * 7).max(64) + 28
}

/// One job, or all cells of one.
fn draw_box(plan: &Plan, group: &Group, place: &Place, out: &mut String) {
    let (name, under) = names(plan, group);
    let Place { x, y, width } = place;
    let cells = &plan.jobs[group.cells.clone()];
    let skipped: Vec<&str> = cells.iter().filter_map(|job| job.skipped.as_deref()).collect();
    let class = if is_out(plan, group) { " class=\"out\"" } else { "" };
    let ids: Vec<&str> = cells.iter().take(40).map(|job| job.id.as_str()).collect();
    let mut tooltip = ids.join("\n");
    if let Some(why) = skipped.first() {
        let _ = write!(tooltip, "\n{} skipped: {why}", counted(skipped.len(), "job"));
    }
    let _ = writeln!(out, "<g{class}><title>{}</title>", escaped(&tooltip));
    let _ = writeln!(out, "<rect class=\"box\" x=\"{x}\" y=\"{y}\" width=\"{width}\" height=\"{BOX}\" rx=\"2\"/>");
    let _ = writeln!(out, "<rect class=\"left\" x=\"{x}\" y=\"{y}\" width=\"3\" height=\"{BOX}\"/>");
    let (text, first, second) = (x + 14, y + 17, y + 32);
    let _ = writeln!(out, "<text class=\"name\" x=\"{text}\" y=\"{first}\">{}</text>", escaped(&name));
    let _ = writeln!(out, "<text class=\"soft\" x=\"{text}\" y=\"{second}\">{}</text></g>", escaped(&under));
}

/// Waits that the order makes between many jobs run together through a joint: the same sources for the same followers.
fn draw_links(plan: &Plan, groups: &[Group], links: &[Link], layers: &[usize], places: &[Place], joints_x: &[usize], out: &mut String) {
    let mut ordered: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for link in links.iter().filter(|link| link.because == Because::Order) {
        ordered.entry(link.to).or_default().push(link.from);
    }
    let mut bundles: BTreeMap<(usize, Vec<usize>), Vec<usize>> = BTreeMap::new();
    for (to, from) in ordered {
        bundles.entry((layers[to], from)).or_default().push(to);
    }
    let right = |group: usize| (places[group].x + places[group].width, places[group].y + BOX / 2);
    let left = |group: usize| (places[group].x, places[group].y + BOX / 2);
    let name = |group: usize| format!("{}.{}", plan.stages[groups[group].stage].name, plan.jobs[groups[group].cells.start].name);
    for ((layer, from), to) in bundles {
        if from.len() < 2 || to.len() < 2 {
            for (&one, &other) in from.iter().flat_map(|one| to.iter().map(move |other| (one, other))) {
                curve(right(one), left(other), "order", &format!("{} waits for {}: the order", name(other), name(one)), out);
            }
            continue;
        }
        let heights: Vec<usize> = from.iter().chain(&to).map(|&group| places[group].y + BOX / 2).collect();
        let joint = (joints_x[layer], heights.iter().sum::<usize>() / heights.len());
        let tooltip = format!("{} wait for {}: the order", list(&to, &name), list(&from, &name));
        from.iter().for_each(|&one| curve(right(one), joint, "order", &tooltip, out));
        to.iter().for_each(|&other| curve(joint, left(other), "order", &tooltip, out));
        let _ = writeln!(out, "<circle class=\"dot\" cx=\"{}\" cy=\"{}\" r=\"3\"/>", joint.0, joint.1);
    }
    for link in links.iter().filter(|link| link.because != Because::Order) {
        let (class, verb) = if link.because == Because::Takes { ("takes", "takes from") } else { ("after", "comes after") };
        curve(right(link.from), left(link.to), class, &format!("{} {verb} {}", name(link.to), name(link.from)), out);
    }
}

fn list(groups: &[usize], name: &impl Fn(usize) -> String) -> String {
    groups.iter().map(|&group| name(group)).collect::<Vec<_>>().join(", ")
}

/// A wait, from the right edge of one box to the left edge of another.
fn curve(from: (usize, usize), to: (usize, usize), class: &str, tooltip: &str, out: &mut String) {
    let bend = (to.0.saturating_sub(from.0) / 2).clamp(16, GAP / 2);
    let (near, far) = (from.0 + bend, to.0.saturating_sub(bend));
    let _ = writeln!(
        out,
        "<path class=\"{class}\" d=\"M{} {} C{near} {} {far} {} {} {}\"><title>{}</title></path>",
        from.0,
        from.1,
        from.1,
        to.1,
        to.0,
        to.1,
        escaped(tooltip)
    );
}

/// What the kinds of lines mean, for those that are drawn.
fn legend(height: usize, links: &[Link], out: &mut String) {
    let kinds = [
        (Because::Takes, "takes", "takes what it gives"),
        (Because::After, "after", "comes after"),
        (Because::Order, "order", "the order"),
    ];
    let (mut x, y) = (MARGIN, height - 16);
    for (because, class, words) in kinds {
        if links.iter().any(|link| link.because == because) {
            let _ = writeln!(
                out,
                "<path class=\"{class}\" d=\"M{x} {} h28\"/><text class=\"soft\" x=\"{}\" y=\"{y}\">{words}</text>",
                y - 4,
                x + 36
            );
            x += 60 + words.len() * 7;
        }
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
