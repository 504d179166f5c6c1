//! A server answers what the standard asks of it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;

use engine::{Bench, good, id, parameters, told, wall};
use interlex_opcua::*;

#[test]
fn references_come_in_pieces_and_are_all_there() {
    let mut bench = Bench::new(ServerLimits { continuation_points: 2, ..ServerLimits::default() });
    let below = |node: NodeId, kind: NodeId| BrowseDescription {
        node_id: node,
        reference_type_id: kind,
        include_subtypes: true,
        ..BrowseDescription::default()
    };
    let engine = below(id("Engine"), ids::HIERARCHICAL_REFERENCES);
    let whole = bench.browse(engine.clone(), 0);
    let names: Vec<_> = whole.references.iter().map(|reference| reference.browse_name.name.clone().unwrap()).collect();
    assert_eq!(names, ["Speed", "Power", "Temperatures", "Secret", "Start"]);
    assert_eq!(whole.references[0].type_definition, ids::ANALOG_ITEM_TYPE.into());
    let mut piece = bench.browse(engine.clone(), 2);
    let mut pieces = piece.references.clone();
    while !piece.continuation_point.as_bytes().is_empty() {
        let used = vec![piece.continuation_point.clone()];
        let next = |points: &[ByteString]| BrowseNextRequest {
            continuation_points: points.to_vec(),
            ..BrowseNextRequest::default()
        };
        let Response::BrowseNext(mut response) = bench.ask(next(&used)) else { panic!() };
        piece = response.results.remove(0);
        pieces.extend(piece.references.clone());
        // What is used up is none any more.
        let Response::BrowseNext(again) = bench.ask(next(&used)) else { panic!() };
        assert_eq!(again.results[0].status_code, StatusCode::BAD_CONTINUATION_POINT_INVALID);
    }
    assert_eq!(pieces, whole.references);
    let statuses = [0; 3].map(|_| bench.browse(engine.clone(), 1).status_code);
    assert_eq!(statuses, [StatusCode::GOOD, StatusCode::GOOD, StatusCode::BAD_NO_CONTINUATION_POINTS]);

    let up = BrowseDescription { browse_direction: BrowseDirection::Inverse, ..engine.clone() };
    assert_eq!(bench.browse(up, 0).references[0].node_id, ids::OBJECTS_FOLDER.into());
    let methods = BrowseDescription { node_class_mask: NodeClass::Method as u32, ..engine.clone() };
    assert_eq!(bench.browse(methods, 0).references.len(), 1);
    // Without those that are more special, a reference has to be of the very type.
    let exact = BrowseDescription { include_subtypes: false, ..engine };
    assert_eq!(bench.browse(exact, 0).references.len(), 0);
    for (node, kind, status) in [
        (id("Turbine"), NodeId::NULL, StatusCode::BAD_NODE_ID_UNKNOWN),
        (id("Engine"), id("Engine"), StatusCode::BAD_REFERENCE_TYPE_ID_INVALID),
    ] {
        assert_eq!(bench.browse(below(node, kind), 0).status_code, status);
    }
    let nothing = BrowseRequest::default();
    assert_eq!(bench.fails(nothing), StatusCode::BAD_NOTHING_TO_DO);
}

#[test]
fn paths_lead_where_browsing_leads() {
    let mut bench = Bench::new(ServerLimits::default());
    let step = |namespace, name: &str, kind: NodeId| RelativePathElement {
        reference_type_id: kind,
        include_subtypes: true,
        target_name: QualifiedName { namespace, name: Some(name.to_owned()) },
        ..RelativePathElement::default()
    };
    let mut translate = |elements: Vec<RelativePathElement>| {
        let path = BrowsePath { starting_node: ids::OBJECTS_FOLDER, relative_path: RelativePath { elements } };
        let request = TranslateBrowsePathsToNodeIdsRequest { browse_paths: vec![path], ..Default::default() };
        let Response::TranslateBrowsePathsToNodeIds(mut response) = bench.ask(request) else { panic!() };
        let result = response.results.remove(0);
        (
            result.status_code,
            result.targets.into_iter().map(|target| target.target_id.local().unwrap()).collect::<Vec<_>>(),
        )
    };
    let engine = || step(2, "Engine", ids::HIERARCHICAL_REFERENCES);
    let range = vec![engine(), step(2, "Speed", NodeId::NULL), step(0, "EURange", ids::AGGREGATES)];
    assert_eq!(translate(range), (StatusCode::GOOD, vec![id("Speed.EURange")]));
    let all = translate(vec![engine(), step(0, "", ids::AGGREGATES)]);
    assert_eq!((all.0, all.1.len()), (StatusCode::GOOD, 5));
    // The same name in another namespace is another.
    assert_eq!(translate(vec![step(1, "Engine", NodeId::NULL)]).0, StatusCode::BAD_NO_MATCH);
    assert_eq!(translate(vec![step(0, "", NodeId::NULL), engine()]).0, StatusCode::BAD_BROWSE_NAME_INVALID);
    assert_eq!(translate(Vec::new()).0, StatusCode::BAD_NOTHING_TO_DO);
}

#[test]
fn every_attribute_is_told_of_the_classes_that_have_it() {
    let mut bench = Bench::new(ServerLimits::default());
    let has = |bench: &mut Bench, node: &NodeId| -> Vec<u32> {
        (1..=27)
            .filter(|attribute| bench.read(node, *attribute, "").status() != StatusCode::BAD_ATTRIBUTE_ID_INVALID)
            .collect()
    };
    let common = [1, 2, 3, 4, 5, 6, 7];
    for (node, own) in [
        (id("Engine"), vec![12]),
        (id("Speed"), vec![13, 14, 15, 16, 17, 18, 19, 20]),
        (id("Start"), vec![21, 22]),
        (ids::FOLDER_TYPE, vec![8]),
        (ids::PROPERTY_TYPE, vec![8, 14, 15]),
        (ids::ORGANIZES, vec![8, 9, 10]),
        (NodeId::numeric(0, 884), vec![8, 23]),
    ] {
        assert_eq!(has(&mut bench, &node), [&common[..], &own].concat(), "{node}");
    }
    bench.set("Power", 412.5);
    bench.millis = 90;
    let power = bench.read(&id("Power"), 13, "");
    let expected = DataValue { server_time: Some(wall(90)), ..good(412.5, 0) };
    assert_eq!(power, expected, "the time of the source is that of the value, however late it is read");
    let second = bench.read(&id("Temperatures"), 13, "1:2").value;
    assert_eq!(second, Some(Variant::Array(Array::Float(vec![412.5, 409.0]))));
    for (node, range, status) in [
        (id("Temperatures"), "7", StatusCode::BAD_INDEX_RANGE_NO_DATA),
        (id("Temperatures"), "2:1", StatusCode::BAD_INDEX_RANGE_INVALID),
        (id("Secret"), "", StatusCode::BAD_NOT_READABLE),
        (id("Turbine"), "", StatusCode::BAD_NODE_ID_UNKNOWN),
    ] {
        assert_eq!(bench.read(&node, 13, range).status(), status, "{node} {range}");
    }
    let late = ReadRequest { max_age: -1.0, ..ReadRequest::default() };
    assert_eq!(bench.fails(late), StatusCode::BAD_MAX_AGE_INVALID);
    bench.server.limits_mut().nodes_per_read = 2;
    let many = ReadRequest { nodes_to_read: vec![ReadValueId::default(); 3], ..ReadRequest::default() };
    assert_eq!(bench.fails(many), StatusCode::BAD_TOO_MANY_OPERATIONS);
}

#[test]
fn only_what_fits_is_written() {
    let mut bench = Bench::new(ServerLimits::default());
    let plain = |value: Variant| DataValue { value: Some(value), ..DataValue::default() };
    let floats = |elements: &[f32]| Variant::Array(Array::Float(elements.to_vec()));
    for (node, range, value, status) in [
        ("Speed", "", plain(1650.0.into()), StatusCode::GOOD),
        ("Speed", "", plain(1900.0.into()), StatusCode::BAD_OUT_OF_RANGE),
        ("Speed", "", plain(1500_i32.into()), StatusCode::BAD_TYPE_MISMATCH),
        ("Speed", "", plain(Variant::Array(Array::Double(vec![1.0]))), StatusCode::BAD_TYPE_MISMATCH),
        ("Speed", "", good(1600.0, 0), StatusCode::BAD_WRITE_NOT_SUPPORTED),
        ("Power", "", plain(1.0.into()), StatusCode::BAD_NOT_WRITABLE),
        ("Engine", "", plain(1.0.into()), StatusCode::BAD_ATTRIBUTE_ID_INVALID),
        ("Temperatures", "1:2", plain(floats(&[1.0, 2.0])), StatusCode::GOOD),
        ("Temperatures", "2:3", plain(floats(&[1.0, 2.0])), StatusCode::BAD_INDEX_RANGE_NO_DATA),
        ("Temperatures", "0", plain(Variant::Array(Array::Double(vec![1.0]))), StatusCode::BAD_TYPE_MISMATCH),
    ] {
        assert_eq!(bench.write(node, range, value), status, "{node} {range}");
    }
    assert_eq!(bench.read(&id("Speed"), 13, "").value, Some(1650.0.into()));
    assert_eq!(bench.read(&id("Temperatures"), 13, "").value, Some(floats(&[410.0, 1.0, 2.0])));
}

#[test]
fn methods_are_called_with_what_they_take() {
    let mut bench = Bench::new(ServerLimits::default());
    let result = bench.call("Start", vec![350.0.into()]);
    assert_eq!((result.status_code, result.output_arguments), (StatusCode::GOOD, vec![Variant::from(true)]));
    for (method, arguments, status) in [
        ("Start", vec![], StatusCode::BAD_ARGUMENTS_MISSING),
        ("Start", vec![1.0.into(), 2.0.into()], StatusCode::BAD_TOO_MANY_ARGUMENTS),
        ("Start", vec![1_i32.into()], StatusCode::BAD_INVALID_ARGUMENT),
        ("Speed", vec![], StatusCode::BAD_METHOD_INVALID),
        ("Stop", vec![], StatusCode::BAD_METHOD_INVALID),
    ] {
        assert_eq!(bench.call(method, arguments).status_code, status, "{method}");
    }
    assert_eq!(bench.controller.starts, [Variant::from(350.0)]);
}

#[test]
fn history_is_read_in_pieces_each_value_once() {
    let mut bench = Bench::new(ServerLimits { values_per_history_read: 7, ..ServerLimits::default() });
    for number in 0..30_u32 {
        bench.millis = u64::from(number / 3) * 10;
        bench.set("Power", f64::from(number));
    }
    let mut request = HistoryReadRequest {
        history_read_details: ReadRawModifiedDetails {
            start_time: wall(20),
            end_time: wall(90),
            ..ReadRawModifiedDetails::default()
        }
        .to_object(),
        nodes_to_read: vec![HistoryReadValueId { node_id: id("Power"), ..HistoryReadValueId::default() }],
        ..HistoryReadRequest::default()
    };
    let mut read = Vec::new();
    loop {
        let Response::HistoryRead(mut response) = bench.ask(request.clone()) else { panic!() };
        let result = response.results.remove(0);
        assert_eq!(result.status_code, StatusCode::GOOD);
        read.extend(HistoryData::from_object(&result.history_data).unwrap().unwrap().data_values);
        request.nodes_to_read[0].continuation_point = result.continuation_point.clone();
        if result.continuation_point.as_bytes().is_empty() {
            break;
        }
    }
    let expected: Vec<_> = (6..27_u32).map(|number| Some(Variant::from(f64::from(number)))).collect();
    assert_eq!(read.into_iter().map(|value| value.value).collect::<Vec<_>>(), expected);
    request.nodes_to_read[0].node_id = id("Speed");
    let Response::HistoryRead(response) = bench.ask(request) else { panic!() };
    assert_eq!(response.results[0].status_code, StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED);
}

#[test]
fn a_full_queue_loses_one_end_and_says_so() {
    for (discard_oldest, expected) in [
        (true, vec![(1, 3.0, true), (1, 4.0, false), (1, 5.0, false)]),
        (false, vec![(1, 0.0, false), (1, 1.0, false), (1, 5.0, true)]),
    ] {
        let mut bench = Bench::new(ServerLimits::default());
        let subscription = bench.subscribe(CreateSubscriptionRequest {
            requested_publishing_interval: 1000.0,
            ..CreateSubscriptionRequest::default()
        });
        bench.set("Power", 0.0);
        let wanted = MonitoringParameters { discard_oldest, ..parameters(1, 3) };
        assert_eq!(bench.watch(subscription.subscription_id, "Power", wanted).revised_queue_size, 3);
        for number in 1..=5 {
            bench.set("Power", f64::from(number));
        }
        bench.publish(&[]);
        assert_eq!(told(&bench.pass(1000)), expected);
    }
    // A queue of one has no room to tell of it.
    let mut bench = Bench::new(ServerLimits::default());
    let subscription = bench.subscribe(CreateSubscriptionRequest::default());
    bench.watch(subscription.subscription_id, "Power", parameters(1, 0));
    bench.set("Power", 1.0);
    bench.publish(&[]);
    assert_eq!(told(&bench.pass(1000)), [(1, 1.0, false)]);
}

#[test]
fn a_deadband_holds_small_changes_back() {
    let filter = |deadband_type, deadband_value| DataChangeFilter {
        trigger: DataChangeTrigger::StatusValue,
        deadband_type,
        deadband_value,
    };
    // One percent of the range from 0 to 2000.
    for (kind, amount) in [(1, 20.0), (2, 1.0)] {
        let mut bench = Bench::new(ServerLimits::default());
        let subscription = bench.subscribe(CreateSubscriptionRequest::default()).subscription_id;
        let wanted = MonitoringParameters { filter: filter(kind, amount).to_object(), ..parameters(1, 10) };
        assert_eq!(bench.watch(subscription, "Speed", wanted).status_code, StatusCode::GOOD);
        for speed in [1510.0, 1520.0, 1521.0, 1501.0, f64::NAN, f64::NAN, 1500.0] {
            bench.set("Speed", speed);
        }
        bench.publish(&[]);
        let values = told(&bench.pass(1000)).into_iter().map(|(_, value, _)| value.to_bits());
        // What is no number is told once.
        assert_eq!(values.collect::<Vec<_>>(), [1500.0, 1521.0, f64::NAN, 1500.0].map(f64::to_bits));
    }
    let mut bench = Bench::new(ServerLimits::default());
    let subscription = bench.subscribe(CreateSubscriptionRequest::default()).subscription_id;
    for (node, filter, status) in [
        ("Power", filter(2, 1.0), StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED),
        ("Speed", filter(2, 101.0), StatusCode::BAD_DEADBAND_FILTER_INVALID),
        ("Speed", filter(1, -1.0), StatusCode::BAD_DEADBAND_FILTER_INVALID),
        ("Speed", filter(9, 1.0), StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED),
    ] {
        let wanted = MonitoringParameters { filter: filter.to_object(), ..parameters(1, 1) };
        assert_eq!(bench.watch(subscription, node, wanted).status_code, status, "{node}");
    }
    assert_eq!(bench.watch(subscription, "Secret", parameters(1, 1)).status_code, StatusCode::BAD_NOT_READABLE);
    assert_eq!(bench.watch(subscription, "Turbine", parameters(1, 1)).status_code, StatusCode::BAD_NODE_ID_UNKNOWN);
}
