//! The OpenAPI document, completed with what holds for all calls.

use actix_web::{
    HttpRequest, HttpResponse, ResponseError,
    http::{
        Method,
        header::{self, HeaderValue},
    },
    web,
};
use fenetre_core::schema::query_schemas;
use serde_json::{Map, Value, json};
use utoipa::openapi::{
    ComponentsBuilder, InfoBuilder, LicenseBuilder, OpenApi, OpenApiBuilder,
    security::{HttpAuthScheme, HttpBuilder, SecurityScheme},
};

use crate::problem::{ApiError, ProblemKind};

/// Where the document is.
pub const PATH: &str = "/api/v1/openapi.json";

/// What the document says of the service.
pub fn description() -> OpenApi {
    let info = InfoBuilder::new()
        .title("Fenetre")
        .version(env!("CARGO_PKG_VERSION"))
        .description(Some("Timestamped points in, aggregates over windows of time out. Every failure is problem details (RFC 9457)."))
        .license(Some(LicenseBuilder::new().name("MIT").identifier(Some("MIT")).build()))
        .build();
    let components = query_schemas().into_iter().fold(ComponentsBuilder::new(), |built, (name, schema)| built.schema(name, schema));
    let bearer = HttpBuilder::new()
        .scheme(HttpAuthScheme::Bearer)
        .description(Some("A token (RFC 6750), or the session of the console. The scope of each call is the grant that it needs; on the dataset of its path, if that names one."))
        .build();
    let components = components.security_scheme("token", SecurityScheme::Http(bearer));
    OpenApiBuilder::new().info(info).components(Some(components.build())).build()
}

/// The calls that there are.
#[derive(Default)]
pub struct Calls {
    document: Value,
    paths: Vec<(String, Vec<Method>)>,
}

impl Calls {
    /// Completes the document.
    ///
    /// # Errors
    /// If the document has no JSON form.
    pub fn of(document: &OpenApi) -> serde_json::Result<Self> {
        let mut document = serde_json::to_value(document)?;
        drop_empty_defaults(&mut document);
        let mut paths = vec![(PATH.to_owned(), vec![Method::GET])];
        for (path, operations) in members(document.get_mut("paths")) {
            let mut methods = Vec::new();
            for (method, operation) in members(Some(operations)) {
                let Ok(method) = Method::from_bytes(method.to_uppercase().as_bytes()) else { continue };
                operation["operationId"] = id_of(&method, path).into();
                complete(path, operation);
                methods.push(method);
            }
            paths.push((path.clone(), methods));
        }
        Ok(Self { document, paths })
    }

    /// The document.
    pub fn document(&self) -> &Value {
        &self.document
    }

    /// The methods of a path, if a call has it.
    pub fn methods_of(&self, path: &str) -> Option<&[Method]> {
        let fits = |template: &str| {
            let (mut steps, mut wanted) = (path.split('/'), template.split('/'));
            loop {
                match (steps.next(), wanted.next()) {
                    (None, None) => return true,
                    (Some(step), Some(wanted)) if step == wanted || wanted.starts_with('{') && !step.is_empty() => {}
                    _ => return false,
                }
            }
        };
        // A literal path comes before one with a parameter in its place.
        let exact = self.paths.iter().find(|(template, _)| template == path);
        exact.or_else(|| self.paths.iter().find(|(template, _)| fits(template))).map(|(_, methods)| methods.as_slice())
    }
}

fn members(value: Option<&mut Value>) -> impl Iterator<Item = (&String, &mut Value)> {
    value.and_then(Value::as_object_mut).into_iter().flatten()
}

/// Optional fields have no default: null is neither a text nor a number.
fn drop_empty_defaults(part: &mut Value) {
    match part {
        Value::Object(members) => {
            if members.get("default").is_some_and(Value::is_null) {
                members.remove("default");
            }
            members.values_mut().for_each(drop_empty_defaults);
        }
        Value::Array(items) => items.iter_mut().for_each(drop_empty_defaults),
        _ => {}
    }
}

/// A unique operation id, such as `get_datasets_by_dataset_metrics`.
fn id_of(method: &Method, path: &str) -> String {
    let steps = path.trim_start_matches("/api/v1").split(['/', '.', '-']).filter(|step| !step.is_empty());
    let named = steps.map(|step| step.strip_prefix('{').map_or_else(|| step.to_owned(), |name| format!("by_{}", name.trim_end_matches('}'))));
    std::iter::once(method.as_str().to_lowercase()).chain(named).collect::<Vec<_>>().join("_")
}

/// Failures that any call may return, with their descriptions.
fn of_all(path: &str) -> Vec<(&'static str, &'static str)> {
    let mut all = vec![
        ("400", "The request is invalid"),
        ("401", "A valid token is needed"),
        ("403", "Access denied"),
        ("408", "The body did not arrive in time"),
        ("413", "The body is too large"),
        ("500", "The service failed"),
        ("503", "Not now: try again after Retry-After seconds"),
    ];
    if path.contains('{') {
        all.push(("404", "Not found"));
    }
    all
}

/// Adds descriptions, the media type of failures, and the failures that any call may return.
fn complete(path: &str, operation: &mut Value) {
    if let Some(schema) = operation.pointer_mut("/requestBody/content/application~1json/schema")
        && schema.as_object().is_some_and(Map::is_empty)
    {
        *schema = json!({ "type": "object" });
    }
    let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) else { return };
    let of_all = of_all(path);
    for (status, text) in &of_all {
        responses.entry(*status).or_insert_with(
            || json!({ "description": text, "content": { "application/json": { "schema": { "$ref": "#/components/schemas/Problem" } } } }),
        );
    }
    for (status, response) in responses {
        let Some(response) = response.as_object_mut() else { continue };
        let usual = of_all.iter().find(|(known, _)| known == status).map(|(_, text)| *text);
        let phrase =
            status.parse().ok().and_then(|status| actix_web::http::StatusCode::from_u16(status).ok()).and_then(|status| status.canonical_reason());
        let described = response.get("description").and_then(Value::as_str).is_some_and(|text| !text.is_empty());
        if !described {
            response.insert("description".to_owned(), usual.or(phrase).unwrap_or("An answer").into());
        }
        let Some(content) = response.get_mut("content").and_then(Value::as_object_mut) else { continue };
        let is_problem = |body: &Value| body.pointer("/schema/$ref").and_then(Value::as_str) == Some("#/components/schemas/Problem");
        if content.get("application/json").is_some_and(is_problem)
            && let Some(body) = content.remove("application/json")
        {
            content.insert("application/problem+json".to_owned(), body);
        }
    }
}

/// The answer to a request that no call takes: its method is wrong, or its path.
pub fn refuse(request: &HttpRequest) -> HttpResponse {
    let path = request.path();
    match request.app_data::<web::Data<Calls>>().and_then(|calls| calls.methods_of(path)) {
        Some(methods) => other_method(request, methods),
        None => ApiError::new(ProblemKind::NotFound, format!("unknown path {} {path}: see {PATH}", request.method())).error_response(),
    }
}

/// The answer to a request whose path has other methods.
pub fn other_method(request: &HttpRequest, methods: &[Method]) -> HttpResponse {
    let known: Vec<&str> = methods.iter().map(Method::as_str).collect();
    let detail = format!("{} is not supported for {}: use {}", request.method(), request.path(), known.join(" or "));
    let mut response = ApiError::new(ProblemKind::Method, detail).error_response();
    // Names of methods are letters.
    if let Ok(allowed) = HeaderValue::from_str(&known.join(", ")) {
        response.headers_mut().insert(header::ALLOW, allowed);
    }
    response
}
