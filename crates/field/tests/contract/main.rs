//! One suite for every driver: each protocol brings its devices, and has to do what all do.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "tests"
)]

mod bacnet;
mod bacnet_ways;
mod dnp3;
mod dnp3_events;
mod dnp3_points;
mod dnp3_ways;
mod line;
mod modbus;
mod opcua;
mod suite;

/// The whole suite for one protocol.
macro_rules! every_driver {
    ($protocol:ident, $field:ty) => {
        mod $protocol {
            use crate::suite;

            #[tokio::test(flavor = "multi_thread")]
            async fn it_connects_loses_and_recovers() {
                suite::it_connects_loses_and_recovers::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_silent_device_costs_its_neighbours_nothing() {
                suite::a_silent_device_costs_its_neighbours_nothing::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn every_command_has_one_of_four_outcomes() {
                suite::every_command_has_one_of_four_outcomes::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn what_nobody_waits_for_any_more_is_not_carried_out() {
                suite::what_nobody_waits_for_any_more_is_not_carried_out::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_device_that_has_too_much_to_do_holds_up_no_other() {
                suite::a_device_that_has_too_much_to_do_holds_up_no_other::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_device_that_changes_begins_anew_and_its_neighbours_go_on() {
                suite::a_device_that_changes_begins_anew_and_its_neighbours_go_on::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_link_that_breaks_under_commands_answers_each_of_them_once() {
                suite::a_link_that_breaks_under_commands_answers_each_of_them_once::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_change_of_one_device_costs_no_command_of_another() {
                suite::a_change_of_one_device_costs_no_command_of_another::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_device_that_goes_answers_what_waits_for_it() {
                suite::a_device_that_goes_answers_what_waits_for_it::<$field>().await;
            }

            #[tokio::test(flavor = "multi_thread")]
            async fn a_flood_from_the_device_is_survived() {
                suite::a_flood_from_the_device_is_survived::<$field>().await;
            }
        }
    };
}

every_driver!(on_modbus, crate::modbus::ModbusField);
every_driver!(on_opcua, crate::opcua::OpcUaField);
every_driver!(on_dnp3, crate::dnp3::Dnp3Field);
every_driver!(on_bacnet, crate::bacnet::BacnetField);
