//! Nodes of a server: those with an id in the definition, and those whose browse path fits a pattern.

use std::collections::{HashSet, VecDeque};

use opcua::{
    client::Session,
    types::{
        BrowseDescription, BrowseDirection, BrowseResult, Error, NodeClass, NodeClassMask, NodeId, ObjectId, ReferenceDescription, ReferenceTypeId,
    },
};

use crate::definition::{METRIC, Opcua};

/// Maximum number of nodes per browse request.
const AT_ONCE: usize = 50;
/// Longest browse path.
const MAX_DEPTH: usize = 16;
/// Maximum number of nodes that are visited.
const MAX_NODES: usize = 200_000;
/// All attributes of a reference (IEC 62541-4, 5.8.2).
const ALL_ATTRIBUTES: u32 = 63;

/// A node, and the series of its values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    pub node: NodeId,
    pub metric: String,
    pub unit: Option<String>,
    pub tags: Vec<(String, String)>,
    /// Position in the definition.
    pub of: usize,
    /// Its path or id, for people.
    pub name: String,
}

/// The nodes that were found.
#[derive(Default)]
pub struct Found {
    pub items: Vec<Item>,
    /// Nodes right below `Objects`, for advice.
    pub roots: Vec<String>,
}

/// Finds all nodes of a definition.
///
/// # Errors
/// If the server does not answer, or has too many nodes.
pub async fn find(opcua: &Opcua, session: &Session) -> Result<Found, Error> {
    let mut found = Found::default();
    for (of, node) in opcua.nodes.iter().enumerate() {
        if let Some(id) = &node.id {
            let parsed = id.parse::<NodeId>().map_err(|status| Error::new(status, format!("`{id}` is not the id of a node")))?;
            let tags = node.tags.clone().into_iter().collect();
            let metric = node.metric.clone().unwrap_or_default();
            found.items.push(Item { node: parsed, metric, unit: node.unit.clone(), tags, of, name: id.clone() });
        }
    }
    if opcua.nodes.iter().any(|node| node.path.is_some()) {
        walk(opcua, session, &mut found).await?;
    }
    Ok(found)
}

/// Walks the tree below `Objects`, level by level, where a pattern may fit.
async fn walk(opcua: &Opcua, session: &Session, found: &mut Found) -> Result<(), Error> {
    let mut waiting: VecDeque<(NodeId, Vec<String>)> = VecDeque::from([(ObjectId::ObjectsFolder.into(), Vec::new())]);
    let mut known: HashSet<NodeId> = HashSet::new();
    let mut taken: HashSet<NodeId> = HashSet::new();
    while !waiting.is_empty() {
        let batch: Vec<(NodeId, Vec<String>)> = waiting.drain(..waiting.len().min(AT_ONCE)).collect();
        let wanted: Vec<BrowseDescription> = batch.iter().map(|(node, _)| description(node)).collect();
        let results = session.browse(&wanted, 0, None).await?;
        for ((_, path), result) in batch.iter().zip(results) {
            for reference in references(session, result).await? {
                let node = reference.node_id.node_id.clone();
                let mut path = path.clone();
                path.push(reference.browse_name.name.as_ref().to_owned());
                if path.len() == 1 {
                    found.roots.push(path[0].clone());
                }
                if known.len() > MAX_NODES {
                    let text = format!("the patterns lead to more than {MAX_NODES} nodes: write longer ones");
                    return Err(Error::new(opcua::types::StatusCode::BadTooManyOperations, text));
                }
                if reference.node_class == NodeClass::Variable && taken.insert(node.clone()) {
                    found.items.extend(item(opcua, &node, &path));
                }
                let may_lead_on = opcua.nodes.iter().filter_map(|node| node.path.as_ref()).any(|pattern| pattern.may_begin(&path));
                if may_lead_on && path.len() < MAX_DEPTH && known.insert(node.clone()) {
                    waiting.push_back((node, path));
                }
            }
        }
    }
    Ok(())
}

fn description(node: &NodeId) -> BrowseDescription {
    BrowseDescription {
        node_id: node.clone(),
        browse_direction: BrowseDirection::Forward,
        reference_type_id: ReferenceTypeId::HierarchicalReferences.into(),
        include_subtypes: true,
        node_class_mask: (NodeClassMask::OBJECT | NodeClassMask::VARIABLE).bits(),
        result_mask: ALL_ATTRIBUTES,
    }
}

/// All references of a result; a server may hand them out in parts.
async fn references(session: &Session, mut result: BrowseResult) -> Result<Vec<ReferenceDescription>, Error> {
    let mut all = result.references.take().unwrap_or_default();
    while !result.continuation_point.is_null() && all.len() < MAX_NODES {
        let Some(next) = session.browse_next(false, &[result.continuation_point.clone()]).await?.into_iter().next() else { break };
        result = next;
        all.extend(result.references.take().unwrap_or_default());
    }
    Ok(all)
}

/// The node as an item, if a pattern fits.
fn item(opcua: &Opcua, node: &NodeId, path: &[String]) -> Option<Item> {
    let joined = path.join("/");
    for (of, wanted) in opcua.nodes.iter().enumerate() {
        let mut names = Vec::new();
        let Some(pattern) = wanted.path.as_ref().filter(|pattern| pattern.find(&joined, &mut names)) else { continue };
        let metric = names.iter().find(|(name, _)| *name == METRIC).map(|(_, text)| (*text).to_owned()).or_else(|| wanted.metric.clone());
        let named = names.iter().filter(|(name, _)| *name != METRIC).map(|(name, text)| ((*name).to_owned(), (*text).to_owned()));
        let constant = wanted.tags.iter().filter(|(key, _)| pattern.names().all(|name| name != key.as_str()));
        let tags = named.chain(constant.map(|(key, value)| (key.clone(), value.clone()))).collect();
        return Some(Item { node: node.clone(), metric: metric.unwrap_or_default(), unit: wanted.unit.clone(), tags, of, name: joined });
    }
    None
}
