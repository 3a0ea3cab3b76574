//! Thinning, as it is defined; [`crate::thinning`] carries it out.

use serde::{Deserialize, Serialize};

use crate::time::Span;

/// Thinning: which points are dropped.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Thinning {
    /// Points that differ from the last stored one by no more than this are dropped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dead_band: Option<f64>,
    /// Points within this distance of the line between their stored neighbours are dropped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line_tolerance: Option<f64>,
    /// Maximum time between two stored points.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_silence: Option<Span>,
}

impl Thinning {
    /// Checks whether its parts make sense together.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn check(&self) -> Result<(), String> {
        let width = match (self.dead_band, self.line_tolerance) {
            (Some(_), Some(_)) => return Err("thinning takes a `dead_band` or a `line_tolerance`, not both".to_owned()),
            (None, None) => return Err("thinning needs a `dead_band` or a `line_tolerance`".to_owned()),
            (Some(width), None) | (None, Some(width)) => width,
        };
        if !width.is_finite() || width < 0.0 {
            return Err(format!("the width {width} of a thinning must be zero or more"));
        }
        match self.max_silence {
            Some(span) if span.months > 0 || span.days > 0 => Err("`max_silence` must be an exact span, such as 10m or 24h".to_owned()),
            None if self.dead_band.is_some() => {
                Err("a `dead_band` needs a `max_silence`, such as 10m: without it, a constant value looks like a silent sensor".to_owned())
            }
            _ => Ok(()),
        }
    }
}
