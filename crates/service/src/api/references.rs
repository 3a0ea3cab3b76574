//! What refers to a dataset, a metric or a tag by its name.

use actix_web::{get, web};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::mappings;
use crate::{
    access::{Access, Read},
    imports::Stage,
    problem::{Problem, Sort},
    state::{Shared, State, blocking},
};

/// Something that names another thing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reference {
    /// What it is, such as `mapping` or `import`.
    pub noun: String,
    /// Its name.
    pub name: String,
    /// How it refers to the other, in words.
    pub how: String,
}

/// Something that may be referred to.
pub(crate) enum Noun<'n> {
    Dataset(&'n str),
    Metric(&'n str),
    Tag(&'n str),
}

/// Everything that refers to it.
pub(crate) fn of(state: &State, noun: &Noun<'_>) -> Result<Vec<Reference>, Problem> {
    let mut found = Vec::new();
    let mut add = |noun: &str, name: &str, how: String| found.push(Reference { noun: noun.to_owned(), name: name.to_owned(), how });
    for kept in mappings::all(state)? {
        let (metrics, tags) = kept.mapping.targets();
        match noun {
            Noun::Metric(metric) if metrics.contains(metric) => add("mapping", &kept.name, "brings values for it".to_owned()),
            Noun::Tag(key) if tags.contains(key) => add("mapping", &kept.name, "gives it to series".to_owned()),
            _ => {}
        }
    }
    if let Noun::Dataset(name) = noun {
        let open = state.imports.all(&state.store)?.into_iter().filter(|import| import.dataset == **name && import.stage != Stage::Done);
        open.for_each(|import| add("import", &import.id, format!("reads {} into it, and is {}", import.file, import.stage.as_str())));
    }
    Ok(found)
}

/// To what.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct To {
    /// To this metric.
    metric: Option<String>,
    /// To this tag.
    tag: Option<String>,
}

/// What refers to a dataset by its name, or to a metric or a tag of it.
#[utoipa::path(tag = "catalogue", params(("dataset" = String, Path), To), responses((status = 200, body = [Reference]), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/references")]
pub(crate) async fn list(
    _: Access<Read>,
    state: Shared,
    dataset: web::Path<String>,
    to: web::Query<To>,
) -> Result<web::Json<Vec<Reference>>, Problem> {
    let work = move |state: &State| match (&to.metric, &to.tag) {
        (None, None) => of(state, &Noun::Dataset(&dataset)),
        (Some(metric), None) => of(state, &Noun::Metric(metric)),
        (None, Some(tag)) => of(state, &Noun::Tag(tag)),
        (Some(_), Some(_)) => Err(Problem::new(Sort::Request, "ask for the metric or for the tag, not for both")),
    };
    blocking(&state, work).await.map(web::Json)
}
