//! Structures that values have, and that describe values.

use super::{enumerations, structures};
use crate::types::{DateTime, LocalizedText, NodeId};

structures! {
    /// The least and the greatest value, as a property tells it of a variable.
    ///
    /// Source: OPC 10000-8, section 5.6.2.
    Range = 886 {
        /// The least value.
        low: f64,
        /// The greatest one.
        high: f64,
    }

    /// A unit.
    ///
    /// Source: OPC 10000-8, section 5.6.3.
    EUInformation = 889 {
        /// Who numbers the units.
        namespace_uri: Option<String>,
        /// The number of the unit.
        unit_id: i32,
        /// How it is written: `kW`.
        display_name: LocalizedText,
        /// What it is called: `kilowatt`.
        description: LocalizedText,
    }

    /// An argument of a method.
    ///
    /// Source: OPC 10000-3, section 8.6.
    Argument = 298 {
        /// Its name.
        name: Option<String>,
        /// Its type.
        data_type: NodeId,
        /// -1 for one value, 1 for several in a row, and so on.
        value_rank: i32,
        /// The lengths of its dimensions; 0 for any.
        array_dimensions: Vec<u32>,
        /// What it means.
        description: LocalizedText,
    }

    /// A value of an enumeration with its text.
    ///
    /// Source: OPC 10000-3, section 8.39.
    EnumValueType = 8251 {
        /// The value.
        value: i64,
        /// Its text.
        display_name: LocalizedText,
        /// What it means.
        description: LocalizedText,
    }

    /// What a program was built from.
    ///
    /// Source: OPC 10000-5, section 12.4.
    BuildInfo = 340 {
        /// What names the product.
        product_uri: Option<String>,
        /// Who made it.
        manufacturer_name: Option<String>,
        /// What it is called.
        product_name: Option<String>,
        /// Its version.
        software_version: Option<String>,
        /// Its build.
        build_number: Option<String>,
        /// When it was built.
        build_date: DateTime,
    }

    /// What a server is doing.
    ///
    /// Source: OPC 10000-5, section 12.10.
    ServerStatusDataType = 864 {
        /// When it was started.
        start_time: DateTime,
        /// What time it is there.
        current_time: DateTime,
        /// Whether it works as it should.
        state: ServerState,
        /// What it was built from.
        build_info: BuildInfo,
        /// In so many seconds it stops, where it is about to.
        seconds_till_shutdown: u32,
        /// Why it is about to stop.
        shutdown_reason: LocalizedText,
    }

    /// How a structure is made up.
    ///
    /// Source: OPC 10000-3, section 8.49.
    StructureDefinition = 122 {
        /// The node of its encoding.
        default_encoding_id: NodeId,
        /// The type that it adds fields to.
        base_data_type: NodeId,
        /// Whether all its fields are there.
        structure_type: StructureType,
        /// Its fields, with those of the type that it adds to.
        fields: Vec<StructureField>,
    }

    /// A field of a structure.
    ///
    /// Source: OPC 10000-3, section 8.51.
    StructureField {
        /// Its name.
        name: Option<String>,
        /// What it means.
        description: LocalizedText,
        /// Its type.
        data_type: NodeId,
        /// -1 for one value, 1 for several in a row, and so on.
        value_rank: i32,
        /// The lengths of its dimensions; 0 for any.
        array_dimensions: Vec<u32>,
        /// The greatest length of a text; 0 for any.
        max_string_length: u32,
        /// Whether it may be missing, or of another type that adds to its own.
        is_optional: bool,
    }

    /// What an enumeration has.
    ///
    /// Source: OPC 10000-3, section 8.50.
    EnumDefinition = 123 {
        /// Its values.
        fields: Vec<EnumField>,
    }

    /// A value of an enumeration with its name.
    ///
    /// Source: OPC 10000-3, section 8.52.
    EnumField {
        /// The value.
        value: i64,
        /// Its text.
        display_name: LocalizedText,
        /// What it means.
        description: LocalizedText,
        /// Its name.
        name: Option<String>,
    }
}

enumerations! {
    /// Whether a server works as it should.
    ///
    /// Source: OPC 10000-5, section 12.6.
    ServerState {
        /// It does.
        #[default]
        Running = 0,
        /// It has failed.
        Failed = 1,
        /// It is not configured.
        NoConfiguration = 2,
        /// Somebody has suspended it.
        Suspended = 3,
        /// It is about to stop.
        Shutdown = 4,
        /// It is being tested: its values are not real.
        Test = 5,
        /// It does not reach what is behind it.
        CommunicationFault = 6,
        /// It does not know.
        Unknown = 7,
    }

    /// Whether all fields of a structure are there.
    ///
    /// Source: OPC 10000-3, section 8.48.
    StructureType {
        /// All.
        #[default]
        Structure = 0,
        /// Some may be missing, which a number before them tells.
        StructureWithOptionalFields = 1,
        /// One at the most, which a number before it tells.
        Union = 2,
        /// All, and some of them of types that add to those that are described.
        StructureWithSubtypedValues = 3,
        /// One at the most, of a type that may add to the one that is described.
        UnionWithSubtypedValues = 4,
    }
}
