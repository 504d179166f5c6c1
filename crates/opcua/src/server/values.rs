use super::engine::{Process, Server, bounded, with_times};
use super::points::Rest;
use super::subscriptions::Asker;
use super::users::User;
use super::views::{most, smaller};
use crate::service::{
    CallMethodRequest, CallMethodResult, CallRequest, CallResponse, HistoryData, HistoryReadRequest,
    HistoryReadResponse, HistoryReadResult, HistoryReadValueId, ReadRawModifiedDetails, ReadRequest, ReadResponse,
    TimestampsToReturn, WriteRequest, WriteResponse, WriteValue,
};
use crate::space::{Access, timed};
use crate::structure::Structure;
use crate::types::{DataValue, DateTime, StatusCode};

/// Source: OPC 10000-4, sections 5.11 and 5.12; OPC 10000-11, section 6.5.
impl Server {
    pub(super) fn read(&self, wall: DateTime, request: &ReadRequest) -> Result<ReadResponse, StatusCode> {
        if request.max_age < 0.0 || request.max_age.is_nan() {
            return Err(StatusCode::BAD_MAX_AGE_INVALID);
        }
        with_times(request.timestamps_to_return)?;
        bounded(request.nodes_to_read.len(), self.limits.nodes_per_read)?;
        let read = |wanted| self.space.read(wanted, request.timestamps_to_return, wall);
        let results = request.nodes_to_read.iter().map(read).collect();
        Ok(ReadResponse { results, ..ReadResponse::default() })
    }

    pub(super) fn write(
        &mut self,
        asker: Asker<'_>,
        request: &WriteRequest,
        process: &mut dyn Process,
    ) -> Result<WriteResponse, StatusCode> {
        bounded(request.nodes_to_write.len(), self.limits.nodes_per_write)?;
        let results = request.nodes_to_write.iter().map(|wanted| self.write_one(asker, wanted, process)).collect();
        Ok(WriteResponse { results, ..WriteResponse::default() })
    }

    fn write_one(&mut self, asker: Asker<'_>, wanted: &WriteValue, process: &mut dyn Process) -> StatusCode {
        let value = match self.space.to_write(wanted) {
            Ok(value) => value,
            Err(status) => return status,
        };
        let status = process.write(&wanted.node_id, &value, asker.user);
        // What is carried out later is told by whoever does.
        if status.is_good() && status != StatusCode::GOOD_COMPLETES_ASYNCHRONOUSLY {
            let value = DataValue { value: Some(value), source_time: Some(asker.wall), ..DataValue::default() };
            self.set_value(&wanted.node_id, value, asker.wall);
        }
        status
    }

    pub(super) fn call(
        &self,
        user: &User,
        request: &CallRequest,
        process: &mut dyn Process,
    ) -> Result<CallResponse, StatusCode> {
        bounded(request.methods_to_call.len(), self.limits.methods_per_call)?;
        let call = |wanted: &CallMethodRequest| {
            let arguments = match self.space.arguments(wanted) {
                Ok(faults) if faults.iter().all(|status| status.is_good()) => &wanted.input_arguments,
                Ok(input_argument_results) => {
                    let status_code = StatusCode::BAD_INVALID_ARGUMENT;
                    return CallMethodResult { status_code, input_argument_results, ..CallMethodResult::default() };
                }
                Err(status_code) => return CallMethodResult { status_code, ..CallMethodResult::default() },
            };
            match process.call(&wanted.object_id, &wanted.method_id, arguments, user) {
                Ok(output_arguments) => CallMethodResult { output_arguments, ..CallMethodResult::default() },
                Err(status_code) => CallMethodResult { status_code, ..CallMethodResult::default() },
            }
        };
        let results = request.methods_to_call.iter().map(call).collect();
        Ok(CallResponse { results, ..CallResponse::default() })
    }

    pub(super) fn read_history(
        &mut self,
        asker: Asker<'_>,
        request: &HistoryReadRequest,
    ) -> Result<HistoryReadResponse, StatusCode> {
        let session = asker.session;
        bounded(request.nodes_to_read.len(), self.limits.nodes_per_history_read)?;
        if request.release_continuation_points {
            let points = self.points.entry(session).or_default();
            let release = |wanted: &HistoryReadValueId| match points.take(&wanted.continuation_point) {
                Some(_) => StatusCode::GOOD,
                None => StatusCode::BAD_CONTINUATION_POINT_INVALID,
            };
            let released = request.nodes_to_read.iter().map(release);
            let results = released.map(|status_code| HistoryReadResult { status_code, ..HistoryReadResult::default() });
            return Ok(HistoryReadResponse { results: results.collect(), ..HistoryReadResponse::default() });
        }
        with_times(request.timestamps_to_return)?;
        let details = ReadRawModifiedDetails::from_object(&request.history_read_details);
        let details = details.ok_or(StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED)?;
        let details = details.map_err(|_| StatusCode::BAD_HISTORY_OPERATION_INVALID)?;
        if details.is_read_modified {
            return Err(StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED);
        }
        let read = |wanted| {
            let read = self.history_of(asker, &details, request.timestamps_to_return, wanted);
            read.unwrap_or_else(|status_code| HistoryReadResult { status_code, ..HistoryReadResult::default() })
        };
        let results = request.nodes_to_read.iter().map(read).collect();
        Ok(HistoryReadResponse { results, ..HistoryReadResponse::default() })
    }

    fn history_of(
        &mut self,
        Asker { session, wall, .. }: Asker<'_>,
        details: &ReadRawModifiedDetails,
        times: TimestampsToReturn,
        wanted: &HistoryReadValueId,
    ) -> Result<HistoryReadResult, StatusCode> {
        let node = self.space.node(&wanted.node_id).ok_or(StatusCode::BAD_NODE_ID_UNKNOWN)?;
        let variable = self.space.variable(&node.id).ok_or(StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED)?;
        let unsupported = StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED;
        let history = variable.history.as_ref().ok_or(unsupported)?;
        if !variable.access.has(Access::HISTORY) {
            return Err(StatusCode::BAD_USER_ACCESS_DENIED);
        }
        let points = self.points.entry(session).or_default();
        let behind = match &wanted.continuation_point {
            point if point.as_bytes().is_empty() => None,
            point => match points.take(point) {
                Some(Rest::History(time, given)) => Some((time, given)),
                _ => return Err(StatusCode::BAD_CONTINUATION_POINT_INVALID),
            },
        };
        let time = |time: DateTime| Some(time).filter(|time| *time > DateTime::NONE);
        let span = (time(details.start_time), time(details.end_time));
        // Two of start, end and number have to be there.
        let given = [span.0.is_some(), span.1.is_some(), details.num_values_per_node != 0];
        if given.into_iter().filter(|is_given| *is_given).count() < 2 {
            return Err(StatusCode::BAD_HISTORY_OPERATION_INVALID);
        }
        let lag = i64::try_from(self.history_lag.as_micros()).unwrap_or(i64::MAX).saturating_mul(10);
        let written = Some(DateTime(wall.0.saturating_sub(lag))).filter(|_| lag > 0);
        let most = smaller(most(details.num_values_per_node), self.limits.values_per_history_read);
        let mut stretch = history.raw(span, most, behind);
        if let Some(written) = written {
            stretch.values.retain(|value| value.source_time.unwrap_or_default() <= written);
        }
        let continuation_point = match stretch.next {
            // Without an end, the number is all that is wanted.
            Some((time, given)) if span.0.is_some() && span.1.is_some() || details.num_values_per_node == 0 => {
                points.keep(Rest::History(time, given), self.limits.continuation_points)?
            }
            _ => crate::types::ByteString::default(),
        };
        let status_code = if stretch.values.is_empty() { StatusCode::GOOD_NO_DATA } else { StatusCode::GOOD };
        let data_values = stretch.values.into_iter().map(|value| timed(value, times)).collect();
        let history_data = HistoryData { data_values }.to_object();
        Ok(HistoryReadResult { status_code, continuation_point, history_data })
    }
}
