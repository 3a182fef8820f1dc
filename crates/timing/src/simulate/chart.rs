//! A curve as text and as a picture.

use super::sweep::Curve;
use std::fmt::Write;

/// The curve as comma-separated values, a line for each point.
pub fn curve_csv(curve: &Curve) -> String {
    let mut out = String::from("value,at,share,accepted,logins,p50_us,p95_us,p99_us,approvals_per_login,packets,main_failure\n");
    for point in &curve.points {
        let one = &point.simulated;
        let most = one.failed.iter().max_by_key(|(_, count)| **count).map_or("", |(cause, _)| cause.as_str());
        // Writing into a string does not fail.
        let _ = writeln!(
            out,
            "{},{},{:.4},{},{},{},{},{},{:.3},{},{most}",
            point.value,
            point.at,
            point.share,
            one.accepted,
            one.logins,
            one.p50_us,
            one.p95_us,
            one.p99_us,
            one.approvals_per_login(),
            one.packets
        );
    }
    out
}

const WIDTH: f64 = 760.0;
const HEIGHT: f64 = 420.0;
const LEFT: f64 = 64.0;
const RIGHT: f64 = 24.0;
const TOP: f64 = 56.0;
const BOTTOM: f64 = 56.0;

/// The curve as a picture (SVG), with its knee marked.
pub fn curve_svg(curve: &Curve) -> String {
    let (first, last) = (curve.points.first().map_or(0.0, |point| point.at), curve.points.last().map_or(1.0, |point| point.at));
    let x = |at: f64| LEFT + (at - first) / (last - first).max(f64::EPSILON) * (WIDTH - LEFT - RIGHT);
    let y = |share: f64| TOP + (1.0 - share) * (HEIGHT - TOP - BOTTOM);
    let unit = if curve.in_seconds { " s" } else { "" };
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" font-family=\"sans-serif\" font-size=\"13\" fill=\"#16323a\">\n\
         <rect width=\"{WIDTH}\" height=\"{HEIGHT}\" fill=\"#fff\"/>\n<text x=\"{LEFT}\" y=\"26\" font-size=\"16\">share of logins let in, by {} ({})</text>\n",
        escaped(&curve.said),
        escaped(&curve.setting)
    );
    for tenth in [0.0, 0.25, 0.5, 0.75, 1.0] {
        let at = y(tenth);
        let _ = writeln!(
            out,
            "<line x1=\"{LEFT}\" x2=\"{}\" y1=\"{at:.1}\" y2=\"{at:.1}\" stroke=\"#d4dfe1\"/><text x=\"{}\" y=\"{:.1}\" text-anchor=\"end\">{:.0} %</text>",
            WIDTH - RIGHT,
            LEFT - 8.0,
            at + 4.0,
            tenth * 100.0
        );
    }
    for place in 0..=6 {
        let at = first + (last - first) * f64::from(place) / 6.0;
        let shown = (at * 10.0).round() / 10.0;
        let _ = writeln!(out, "<text x=\"{:.1}\" y=\"{}\" text-anchor=\"middle\">{shown}{unit}</text>", x(at), HEIGHT - BOTTOM + 22.0);
    }
    let line: Vec<String> = curve.points.iter().map(|point| format!("{:.1},{:.1}", x(point.at), y(point.share))).collect();
    let _ = writeln!(out, "<polyline points=\"{}\" fill=\"none\" stroke=\"#0b7285\" stroke-width=\"2.5\"/>", line.join(" "));
    for point in &curve.points {
        let _ = writeln!(out, "<circle cx=\"{:.1}\" cy=\"{:.1}\" r=\"3\" fill=\"#0b7285\"/>", x(point.at), y(point.share));
    }
    if let Some(now) = curve.now.filter(|now| (first..=last).contains(now)) {
        let at = x(now);
        let _ = writeln!(
            out,
            "<line x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"{TOP}\" y2=\"{}\" stroke=\"#7a8b8f\" stroke-dasharray=\"4 4\"/><text x=\"{:.1}\" y=\"{}\">now</text>",
            HEIGHT - BOTTOM,
            at + 5.0,
            HEIGHT - BOTTOM - 6.0
        );
    }
    if let Some(point) = curve.knee.and_then(|knee| curve.points.get(knee)) {
        let (at, share) = (x(point.at), y(point.share));
        let (anchor, shift) = if at > WIDTH * 0.7 { ("end", -10.0) } else { ("start", 10.0) };
        let _ = writeln!(
            out,
            "<circle cx=\"{at:.1}\" cy=\"{share:.1}\" r=\"8\" fill=\"none\" stroke=\"#b34700\" stroke-width=\"2.5\"/><text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"{anchor}\">knee: {} lets {:.1} % in</text>",
            at + shift,
            share + 24.0,
            escaped(&point.value),
            point.share * 100.0
        );
    }
    out + "</svg>\n"
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}
