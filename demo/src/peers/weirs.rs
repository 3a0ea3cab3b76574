//! An OPC UA server (IEC 62541) for the weirs of some locks, with opening and flow. One flow gauge is out of order.

use std::{io, net::TcpListener, path::Path, sync::Arc, thread, time::Duration};

use opcua::types::{DataTypeId, DataValue, DateTime, NodeClass, NodeId, ObjectId, ReferenceTypeId, StatusCode, Variant};
use opcua_nodes::{ObjectBuilder, VariableBuilder};
use opcua_server::{
    ANONYMOUS_USER_TOKEN_ID, ServerBuilder, ServerEndpoint, ServerHandle,
    diagnostics::NamespaceMetadata,
    node_manager::memory::{SimpleNodeManager, simple_node_manager},
};

use super::swing;

/// Namespaces: of the standard, and of the weirs.
const STANDARD: &str = "http://opcfoundation.org/UA/";
const WEIRS: &str = "urn:velmar:weirs";
const EVERY: Duration = Duration::from_secs(1);
/// Locks, and whether the flow gauge works there.
const LOCKS: [(&str, bool); 3] = [("brindle", true), ("osier", true), ("tansy", false)];

/// Starts the server, and returns its port. `folder` is for its certificates.
///
/// # Errors
/// If there is no free port, or the server cannot be built.
pub fn start(folder: &Path) -> io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    listener.set_nonblocking(true)?;
    let port = listener.local_addr()?.port();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    // The server starts tasks while it is built.
    let inside = runtime.enter();
    let space = |uri: &str| NamespaceMetadata { namespace_uri: uri.to_owned(), ..NamespaceMetadata::default() };
    let (server, handle) = ServerBuilder::new()
        .application_name("Weirs of the Velmar Waterway")
        .application_uri(WEIRS)
        .product_uri(WEIRS)
        .create_sample_keypair(false)
        .pki_dir(folder)
        .host("127.0.0.1")
        .port(port)
        .discovery_urls(vec!["/".to_owned()])
        .add_endpoint("open", ServerEndpoint::new_none("/", &[ANONYMOUS_USER_TOKEN_ID.to_owned()]))
        .default_endpoint("open")
        .with_node_manager(simple_node_manager(space(STANDARD), STANDARD))
        .with_node_manager(simple_node_manager(space(WEIRS), WEIRS))
        .build()
        .map_err(io::Error::other)?;
    let weirs = Weirs::build(&handle).ok_or_else(|| io::Error::other("the server has no place for the weirs"))?;
    drop(inside);
    thread::Builder::new().name("weirs".to_owned()).spawn(move || {
        runtime.block_on(async move {
            // If this fails, the demo continues without weirs.
            let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
            let changing = async {
                loop {
                    weirs.change(&handle);
                    tokio::time::sleep(EVERY).await;
                }
            };
            tokio::select! {
                _ = server.run_with(listener) => {}
                () = changing => {}
            }
        });
    })?;
    Ok(port)
}

/// The nodes of the weirs.
struct Weirs {
    nodes: Arc<SimpleNodeManager>,
    space: u16,
}

impl Weirs {
    /// Builds the address space, and the part of the standard's address space that a client needs to browse it.
    fn build(handle: &ServerHandle) -> Option<Self> {
        let standard = handle.node_managers().get_by_name::<SimpleNodeManager>(STANDARD)?;
        let nodes = handle.node_managers().get_by_name::<SimpleNodeManager>(WEIRS)?;
        let space = handle.get_namespace_index(WEIRS)?;
        let objects = NodeId::from(ObjectId::ObjectsFolder);
        ObjectBuilder::new(&objects, "Objects", "Objects").is_folder().insert(&mut *standard.address_space().write());
        for (kind, of) in [
            (ReferenceTypeId::HierarchicalReferences, ReferenceTypeId::References),
            (ReferenceTypeId::Organizes, ReferenceTypeId::HierarchicalReferences),
        ] {
            handle.type_tree().write().add_type_node(&kind.into(), &of.into(), NodeClass::ReferenceType);
        }
        let weirs = Self { nodes, space };
        {
            let place = weirs.nodes.address_space();
            let mut place = place.write();
            let folder = NodeId::new(space, "Weirs");
            ObjectBuilder::new(&folder, "Weirs", "Weirs").is_folder().organized_by(objects).insert(&mut *place);
            for (lock, _) in LOCKS {
                let of_lock = NodeId::new(space, format!("Weirs.{lock}"));
                ObjectBuilder::new(&of_lock, lock, lock).is_folder().organized_by(folder.clone()).insert(&mut *place);
                for name in ["weir_opening", "weir_flow"] {
                    let variable = VariableBuilder::new(&weirs.node(lock, name), name, name);
                    variable.data_type(DataTypeId::Double).value(0.0).organized_by(of_lock.clone()).insert(&mut *place);
                }
            }
        }
        Some(weirs)
    }

    fn node(&self, lock: &str, name: &str) -> NodeId {
        NodeId::new(self.space, format!("Weirs.{lock}.{name}"))
    }

    /// Sets the current values of the nodes.
    fn change(&self, handle: &ServerHandle) {
        let now = DateTime::now();
        for ((lock, is_sound), phase) in LOCKS.into_iter().zip([0.1, 0.4, 0.7]) {
            let opening = swing(35.0, 20.0, 900.0, phase).round();
            let flow = (1.8 * opening + swing(0.0, 2.0, 60.0, phase)) / 10.0;
            let mut flow = DataValue::new_at(Variant::from(flow), now);
            if !is_sound {
                flow.status = Some(StatusCode::BadSensorFailure);
            }
            let values = [(self.node(lock, "weir_opening"), DataValue::new_at(Variant::from(opening), now)), (self.node(lock, "weir_flow"), flow)];
            let values = values.iter().map(|(node, value)| (node, None, value.clone()));
            // The nodes were built above.
            let _ = self.nodes.set_values(handle.subscriptions(), values);
        }
    }
}
