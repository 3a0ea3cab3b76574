//! What tests from outside the core share: a store in memory, and questions to it.

#![allow(dead_code, reason = "each test uses a part of it")]

use std::collections::BTreeMap;

use fenetre_core::{
    answer::{Lines, WindowLine},
    block::Columns,
    catalogue::{Catalogue, Codes},
    evaluate::{End, Run, Source, SourceError, Visit, evaluate},
    model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId, SeriesId, Value},
    plan::{Limits, plan},
    query::{Frame, parse},
    summary::Sample,
    time::{Nanos, SECOND, TimeRange},
};

pub const NOW: Nanos = 1_790_000_000 * SECOND;

/// Points by series, and what there is to ask for.
pub struct World {
    pub catalogue: Catalogue,
    pub points: BTreeMap<SeriesId, Columns>,
    metrics: u32,
}

impl World {
    pub fn new(zone: &str) -> Self {
        let mut catalogue = Catalogue::default();
        catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: zone.into(), ..Default::default() });
        Self { catalogue, points: BTreeMap::new(), metrics: 0 }
    }

    pub fn metric(&mut self, name: &str, definition: MetricDefinition) {
        self.metrics += 1;
        let id = MetricId(self.metrics);
        self.catalogue.dataset_mut("velmar").unwrap().put_metric(id, name, definition);
    }

    pub fn series(&mut self, id: u32, metric: &str, tags: &[(&str, &str)], codes: Option<Codes>, points: Columns) {
        self.catalogue.dataset_mut("velmar").unwrap().put_series(SeriesId(id), metric, tags.iter().copied(), codes);
        self.points.insert(SeriesId(id), points);
    }

    /// The lines of the first `show`.
    pub fn ask(&self, text: &str) -> Vec<WindowLine> {
        let query = parse(text).map_err(|error| error.render(text)).unwrap();
        let planned = plan(&query, &Frame::default(), &self.catalogue, "velmar", NOW, &Limits::default()).map_err(|error| error.to_string()).unwrap();
        match evaluate(planned, self, &|| false).unwrap().shows.remove(0).lines {
            Lines::Windows(lines) | Lines::Moments(lines) => lines,
            Lines::Points(_) => panic!("points were asked for"),
        }
    }

    /// The numbers of the only line.
    pub fn numbers(&self, text: &str) -> Vec<Option<f64>> {
        let mut lines = self.ask(text);
        assert_eq!(lines.len(), 1, "{text}");
        lines.remove(0).values.iter().map(|value| value.as_ref().and_then(Value::number)).collect()
    }
}

impl Source for World {
    fn scan(&self, _: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        for (place, id) in series.iter().enumerate() {
            if let Some(columns) = self.points.get(id).filter(|columns| !columns.points().places_in(range).is_empty()) {
                visit(place, Run::Points(columns.points()))?;
            }
        }
        Ok(())
    }

    fn outermost(&self, _: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, SourceError> {
        let of = |id: &SeriesId| {
            let points = self.points.get(id)?.points();
            let mut places = points.places_in(range);
            let at = if end == End::Latest { places.next_back()? } else { places.next()? };
            Some(Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) })
        };
        Ok(series.iter().map(of).collect())
    }
}
