use super::*;
use interlex_modbus::Identification;
use std::time::Duration;

/// What a unit is asked, one after the other, and what comes of it.
fn asked(
    mut answer: impl FnMut(IdentifyRequest) -> Result<Response, RequestError>,
) -> (Vec<(IdentifyAccess, u8)>, Result<TrialIdentity, TrialError>) {
    let (mut identify, mut requests) = (Identify::new(7), Vec::new());
    let now = tokio::time::Instant::now().into_std();
    loop {
        match identify.next(now) {
            Step::Send { unit: 7, request: Request::Identify(request), .. } => {
                requests.push((request.access, request.object));
                assert!(requests.len() < 1000, "it has an end");
                let reply = Reply { outcome: answer(request), took: Duration::ZERO, frames: Vec::new() };
                identify.answered(reply, now);
            }
            Step::Done(answer) => return (requests, answer.found()),
            step => panic!("{step:?}"),
        }
    }
}

fn part(object: u8, next: Option<u8>) -> Result<Response, RequestError> {
    let objects = vec![(object, vec![b'a' + object])];
    Ok(Response::Identification(Identification { conformity: 0x82, objects, next }))
}

#[test]
fn what_does_not_fit_one_answer_is_asked_for_from_where_it_ended() {
    let (requests, identity) = asked(|request| part(request.object, (request.object < 2).then(|| request.object + 1)));
    assert_eq!(requests, [0, 1, 2].map(|object| (IdentifyAccess::Extended, object)));
    let identity = identity.unwrap();
    let told: Vec<_> = identity.objects.iter().map(|object| (object.name.as_str(), object.value.as_str())).collect();
    assert_eq!(told, [("VendorName", "a"), ("ProductCode", "b"), ("MajorMinorRevision", "c")]);
    assert_eq!(identity.conformity, Some(0x82));
}

#[test]
fn a_device_that_refuses_all_that_it_could_say_is_asked_for_the_basics_once() {
    let refused = || Err(RequestError::Response(ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_VALUE)));
    let basics = |request: IdentifyRequest| match request.access {
        IdentifyAccess::Basic => part(0, None),
        _ => refused(),
    };
    let (requests, identity) = asked(basics);
    assert_eq!(requests, [(IdentifyAccess::Extended, 0), (IdentifyAccess::Basic, 0)]);
    assert_eq!(identity.unwrap().objects.len(), 1);
    let (requests, identity) = asked(|_| refused());
    assert_eq!(requests.len(), 2);
    assert!(identity.unwrap_err().to_string().contains("illegal data value"));
}

#[test]
fn a_device_that_goes_on_without_end_is_not_asked_without_end() {
    let (requests, _) = asked(|_| part(0, Some(0)));
    assert_eq!(requests.len(), 1);
    let (requests, _) = asked(|request| part(0, Some(request.object.wrapping_add(1))));
    assert_eq!(requests.len(), 256, "each object once");
}
