use super::Base;
use crate::buffer::Item;
use crate::command::CommandResult;
use crate::mqtt::{Connection, Will};
use crate::request::UplinkRequest;
use interlex_core::FieldEvent;

/// What one kind of uplink makes of the session that all have: what it says, in which order, and when it counts as said.
pub(crate) trait Kind: Send {
    /// What waits for the broker.
    type Item: Item + Send + Sync;

    /// A connection is about to be made to the broker in this place: what the broker shall say when it breaks.
    fn begin(&mut self, base: &mut Base<Self::Item>, broker: usize) -> Option<Will>;

    /// What has to be subscribed to before anything is said.
    fn subscriptions(&self) -> Vec<String>;

    /// The subscriptions are in force.
    fn subscribed(&mut self, base: &mut Base<Self::Item>);

    /// UNSUBACK: the broker has read all that was sent before the question.
    fn answered(&mut self, base: &mut Base<Self::Item>);

    /// PUBACK or PUBCOMP: the broker has taken a message of QoS 1 or 2.
    fn acknowledged(&mut self, base: &mut Base<Self::Item>);

    /// A message came.
    fn message(&mut self, base: &mut Base<Self::Item>, topic: &str, payload: &[u8], is_retained: bool);

    /// Something happened on the connection. `false` when whoever all this is for is not at this broker.
    fn has_host(&mut self, base: &mut Base<Self::Item>) -> bool;

    /// The field side tells something; with or without a connection.
    fn take_in(&mut self, base: &mut Base<Self::Item>, event: FieldEvent) -> impl Future<Output = ()> + Send;

    /// A command that came from here was carried out, or was not.
    fn result(&mut self, base: &mut Base<Self::Item>, result: &CommandResult);

    /// People want something that only this kind knows.
    fn answer(&mut self, base: &mut Base<Self::Item>, request: UplinkRequest);

    /// Every [`TICK`](crate::buffer::TICK), with or without a connection.
    fn tick(&mut self, base: &mut Base<Self::Item>) -> impl Future<Output = ()> + Send;

    /// Every tick of a connection. `false` when the host was waited for in vain.
    fn tick_connected(&mut self, base: &mut Base<Self::Item>, connection: &Connection) -> bool;

    /// Hands over what may be sent now.
    fn send(&mut self, base: &mut Base<Self::Item>, connection: &Connection);

    /// Whether values go to the broker.
    fn is_online(&self) -> bool;

    /// The connection is gone: what was not proved is to be sent again.
    fn lost(&mut self, base: &mut Base<Self::Item>);

    /// The end of a session is chosen: says what is left to say, and waits for the proof.
    fn part(
        &mut self,
        base: &mut Base<Self::Item>,
        connection: &mut Connection,
        has_host: bool,
    ) -> impl Future<Output = ()> + Send;

    /// The end of the uplink is chosen, and its session has ended in order.
    fn stopped(&mut self, base: &mut Base<Self::Item>) -> impl Future<Output = ()> + Send;

    /// Nothing comes any more: what is half done becomes something that the journal keeps.
    fn finish(&mut self, base: &mut Base<Self::Item>) -> impl Future<Output = ()> + Send;
}
