//! Finding nodes.
//!
//! Source: OPC 10000-4, section 5.9.

use super::{RequestHeader, ResponseHeader};
use crate::structure::{enumerations, structures};
use crate::types::{
    ByteString, DateTime, DiagnosticInfo, ExpandedNodeId, LocalizedText, NodeId, QualifiedName, StatusCode,
};

structures! {
    /// A part of the address space.
    ///
    /// Source: OPC 10000-4, section 7.45.
    ViewDescription {
        /// The view; null for all.
        view_id: NodeId,
        /// As it was then.
        timestamp: DateTime,
        /// In this version.
        view_version: u32,
    }

    /// A node whose references are wanted.
    BrowseDescription {
        /// The node.
        node_id: NodeId,
        /// Which way.
        browse_direction: BrowseDirection,
        /// Which references; null for all.
        reference_type_id: NodeId,
        /// Those that are more special, too.
        include_subtypes: bool,
        /// Which classes of nodes, a bit each; 0 for all.
        node_class_mask: u32,
        /// What is wanted of each, a bit a field.
        result_mask: u32,
    }

    /// Asks for the references of nodes.
    BrowseRequest = 527 {
        /// The header.
        request_header: RequestHeader,
        /// The part of the address space.
        view: ViewDescription,
        /// So many references of each at a time; 0 for any.
        requested_max_references_per_node: u32,
        /// The nodes.
        nodes_to_browse: Vec<BrowseDescription>,
    }

    /// A node at the other end of a reference.
    ///
    /// Source: OPC 10000-4, section 7.29.
    ReferenceDescription {
        /// The reference.
        reference_type_id: NodeId,
        /// Whether it leads away from the node that was asked about.
        is_forward: bool,
        /// The other node.
        node_id: ExpandedNodeId,
        /// Its name in paths.
        browse_name: QualifiedName,
        /// Its name for people.
        display_name: LocalizedText,
        /// What it is.
        node_class: NodeClass,
        /// Its type.
        type_definition: ExpandedNodeId,
    }

    /// The references of a node.
    ///
    /// Source: OPC 10000-4, section 7.6.
    BrowseResult {
        /// What became of it.
        status_code: StatusCode,
        /// Where to go on; null when these are all.
        continuation_point: ByteString,
        /// The references.
        references: Vec<ReferenceDescription>,
    }

    /// The references of nodes.
    BrowseResponse = 530 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each node.
        results: Vec<BrowseResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Asks for more references.
    BrowseNextRequest = 533 {
        /// The header.
        request_header: RequestHeader,
        /// Whether no more are wanted.
        release_continuation_points: bool,
        /// Where to go on.
        continuation_points: Vec<ByteString>,
    }

    /// More references.
    BrowseNextResponse = 536 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each continuation point.
        results: Vec<BrowseResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// A step from a node to another.
    ///
    /// Source: OPC 10000-4, section 7.31.
    RelativePathElement {
        /// The reference; null for any.
        reference_type_id: NodeId,
        /// Against its direction.
        is_inverse: bool,
        /// Those that are more special, too.
        include_subtypes: bool,
        /// The name of the other node.
        target_name: QualifiedName,
    }

    /// Steps from a node to another.
    ///
    /// Source: OPC 10000-4, section 7.31.
    RelativePath {
        /// The steps.
        elements: Vec<RelativePathElement>,
    }

    /// A way to a node.
    BrowsePath {
        /// Where it begins.
        starting_node: NodeId,
        /// The steps.
        relative_path: RelativePath,
    }

    /// Asks for the nodes that paths lead to.
    TranslateBrowsePathsToNodeIdsRequest = 554 {
        /// The header.
        request_header: RequestHeader,
        /// The paths.
        browse_paths: Vec<BrowsePath>,
    }

    /// A node that a path leads to.
    BrowsePathTarget {
        /// The node.
        target_id: ExpandedNodeId,
        /// The first step that was not made, since the node is on another server; the largest number when all were.
        remaining_path_index: u32,
    }

    /// The nodes that a path leads to.
    BrowsePathResult {
        /// What became of it.
        status_code: StatusCode,
        /// The nodes.
        targets: Vec<BrowsePathTarget>,
    }

    /// The nodes that paths lead to.
    TranslateBrowsePathsToNodeIdsResponse = 557 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each path.
        results: Vec<BrowsePathResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Announces nodes that are going to be asked for again and again.
    RegisterNodesRequest = 560 {
        /// The header.
        request_header: RequestHeader,
        /// The nodes.
        nodes_to_register: Vec<NodeId>,
    }

    /// What to call them in this session.
    RegisterNodesResponse = 563 {
        /// The header.
        response_header: ResponseHeader,
        /// A node for each.
        registered_node_ids: Vec<NodeId>,
    }

    /// Takes such an announcement back.
    UnregisterNodesRequest = 566 {
        /// The header.
        request_header: RequestHeader,
        /// The nodes, as they were called.
        nodes_to_unregister: Vec<NodeId>,
    }

    /// It is taken back.
    UnregisterNodesResponse = 569 {
        /// The header.
        response_header: ResponseHeader,
    }
}

enumerations! {
    /// Which way references are followed.
    ///
    /// Source: OPC 10000-4, section 7.5.
    BrowseDirection {
        /// Away from the node.
        #[default]
        Forward = 0,
        /// Towards it.
        Inverse = 1,
        /// Both ways.
        Both = 2,
    }

    /// What a node is.
    ///
    /// Source: OPC 10000-3, section 8.29.
    NodeClass {
        /// Not told.
        #[default]
        Unspecified = 0,
        /// Something that has variables, methods and events.
        Object = 1,
        /// Something that has a value.
        Variable = 2,
        /// Something that can be called.
        Method = 4,
        /// The type of an object.
        ObjectType = 8,
        /// The type of a variable.
        VariableType = 16,
        /// The type of a reference.
        ReferenceType = 32,
        /// The type of a value.
        DataType = 64,
        /// A part of the address space.
        View = 128,
    }
}
