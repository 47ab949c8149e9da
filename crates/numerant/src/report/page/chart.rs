//! Small charts as SVG, each with a text that says what it shows.

use maud::{Markup, html};

use crate::report::words::number;

/// A bar as long as a count is next to the largest.
pub(super) fn bar(count: u64, most: u64) -> Markup {
    let share = count as f64 / most.max(1) as f64;
    let label = format!("{:.0} % of the largest", 100.0 * share);
    html! {
        svg width="200" height="12" viewBox="0 0 200 12" preserveAspectRatio="none" role="img" aria-label=(label) {
            rect width=(format!("{:.1}", 200.0 * share)) height="12" rx="2" {}
        }
    }
}

/// Width and height of a histogram.
const WIDTH: f64 = 240.0;
const HEIGHT: f64 = 48.0;

/// The counts of classes, from the least to the greatest value, side by side.
pub(super) fn histogram(counts: &[u64], minimum: &str, maximum: &str) -> Markup {
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    let step = WIDTH / counts.len().max(1) as f64;
    let shown = counts.iter().map(|count| number(*count));
    let label = format!(
        "values from {minimum} to {maximum}, in {} classes: {}",
        counts.len(),
        Vec::from_iter(shown).join(", ")
    );
    html! {
        svg.histogram width=(WIDTH) height=(HEIGHT) role="img" aria-label=(label) {
            @for (place, count) in counts.iter().enumerate() {
                @let height = if *count > 0 { (HEIGHT * *count as f64 / most as f64).max(1.0) } else { 0.0 };
                rect x=(format!("{:.1}", place as f64 * step)) y=(format!("{:.1}", HEIGHT - height))
                    width=(format!("{:.1}", (step - 1.0).max(1.0))) height=(format!("{height:.1}")) {}
            }
        }
    }
}
