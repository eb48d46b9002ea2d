//! Actions of the outbox, and the deliveries that carried them.

use fencepost_store::{DeliveryRow, DeliveryState, SourcedSetting};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{Row, RowSink, push_text, row};
use crate::act::bundles::{BundleChangeState, BundleMove};
use crate::act::compose::DeliveryContent;
use crate::act::journal::is_sending;
use crate::act::outbox::{Outbox, OutboxLine};
use crate::act::records::OutboxRecords;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// Returns the columns of the list of actions.
pub(super) fn action_columns() -> Vec<Column> {
    super::columns(
        &["state", "at", "device", "rule", "step", "to", "action", "because", "do", "person", "attempts", "delivery"],
        &[],
    )
}

/// Returns the columns of the list of deliveries.
pub(super) fn delivery_columns() -> Vec<Column> {
    super::columns(
        &["at", "state", "channel", "to", "subject", "because", "delivery", "key", "attempts", "actions"],
        &["answer"],
    )
}

/// Returns the columns of the list of bundles.
pub(super) fn bundle_columns() -> Vec<Column> {
    super::columns(&["bundle", "devices", "entered", "left", "to"], &["title"])
}

/// Returns the columns of the list of changes of bundles.
pub(super) fn bundle_change_columns() -> Vec<Column> {
    super::columns(&["bundle", "device", "change", "at", "state"], &[])
}

/// Returns the columns of the list of settings.
pub(super) fn setting_columns() -> Vec<Column> {
    super::columns(&["device", "setting", "state", "at", "because"], &["source"])
}

/// Returns what is told of an action, by the names that it has wherever one is told.
pub fn action_cells(line: &OutboxLine, project: &Project) -> [(&'static str, Json); 12] {
    [
        ("action", json!(line.action.id.to_string())),
        ("device", json!(line.finding.device.as_str())),
        ("person", json!(line.person())),
        ("rule", json!(line.finding.subject.as_str())),
        ("step", json!(line.step.id.as_str())),
        ("do", json!(line.deed())),
        ("to", json!(line.to())),
        ("state", json!(line.state().as_str())),
        ("at", json!(line.moment().map(|at| at.to_string()))),
        ("because", json!(line.because(project))),
        ("attempts", json!(line.attempts.as_ref().map_or(0, |attempts| attempts.count))),
        ("delivery", json!(line.attempts.as_ref().map(|attempts| &attempts.delivery))),
    ]
}

impl Reading<'_> {
    pub(super) fn list_actions(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        sink.sort_by_keys();
        let records = OutboxRecords::read(self)?;
        Outbox { reading: self, records: &records }.each_device(|lines| {
            // What a closing would set off is no action before it comes.
            let mut there = lines.iter().filter(|line| line.action.moment.is_some());
            there.try_for_each(|line| sink.push_with_key(&order(line), row(action_cells(line, self.project))))
        })
    }

    pub(super) fn list_deliveries(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let is_sending = is_sending(self.project);
        self.reader.each_delivery(|delivery| match delivery.at <= self.at {
            true => sink.push(self.delivery_row(&delivery, is_sending)?),
            false => Ok(()),
        })
    }

    pub(super) fn list_bundles(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let records = OutboxRecords::read(self)?;
        for of in self.bundle_members()? {
            let changes = records.bundle_changes(&of);
            let count = |wanted: BundleMove| {
                let open = changes.iter().filter(|change| change.state != BundleChangeState::Delivered);
                open.filter(|change| change.change == wanted).count()
            };
            sink.push(row([
                ("bundle", json!(of.bundle.id)),
                ("title", json!(of.bundle.title)),
                ("devices", json!(of.members.len())),
                ("entered", json!(count(BundleMove::Enters))),
                ("left", json!(count(BundleMove::Leaves))),
                ("to", json!(of.bundle.to)),
            ]))?;
        }
        Ok(())
    }

    pub(super) fn list_bundle_changes(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let records = OutboxRecords::read(self)?;
        for of in self.bundle_members()? {
            let mut changes = records.bundle_changes(&of);
            // What is yet to be handed over comes first.
            changes.sort_by_key(|change| change.state == BundleChangeState::Delivered);
            sink.push_all(changes.into_iter().map(|change| {
                row([
                    ("bundle", json!(change.bundle)),
                    ("device", json!(change.device)),
                    ("change", json!(change.change.as_str())),
                    ("at", json!(change.at.map(|at| at.to_string()))),
                    ("state", json!(change.state.as_str())),
                ])
            }))?;
        }
        Ok(())
    }

    pub(super) fn list_settings(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let rows = self.reader.settings(self.run)?.into_iter().map(|SourcedSetting { row: said, source }| {
            row([
                ("device", json!(said.device)),
                ("setting", json!(said.setting)),
                ("state", json!(said.state)),
                ("because", json!(said.because)),
                ("at", json!(said.at.to_string())),
                ("source", json!(source)),
            ])
        });
        sink.push_all(rows)
    }

    fn delivery_row(&self, delivery: &DeliveryRow, is_sending: bool) -> Result<Row<'static>, EngineError> {
        let content = serde_json::from_slice(&self.reader.delivery_content(delivery.id)?).ok();
        let subject = match content {
            Some(DeliveryContent::Message { subject, .. }) => Some(subject),
            Some(DeliveryContent::Event(event)) => {
                let data = &event["data"];
                data["subject"].as_str().or(data["command"].as_str()).map(str::to_owned)
            }
            None => None,
        };
        let actions = self.reader.actions_of(delivery.id)?;
        let actions: Vec<String> = actions.iter().map(|action| format!("{:016x}", action.key.action)).collect();
        let state = match delivery.state {
            DeliveryState::Claimed if is_sending => "claimed",
            DeliveryState::Claimed => "in-doubt",
            DeliveryState::Delivered => "delivered",
            DeliveryState::Failed | DeliveryState::GivenUp => "failed",
        };
        Ok(row([
            ("delivery", json!(delivery.key)),
            ("channel", json!(delivery.channel)),
            ("to", json!(delivery.recipient)),
            ("subject", json!(subject)),
            ("key", json!(delivery.key)),
            ("state", json!(state)),
            ("answer", json!(delivery.answer)),
            ("attempts", json!(delivery.attempts)),
            ("at", json!(delivery.at.to_string())),
            ("actions", json!(actions)),
            ("because", json!(delivery.because)),
        ]))
    }
}

/// Returns the key that lists first what may or has to be done, and within that what comes first.
fn order(line: &OutboxLine) -> Vec<u8> {
    let moment = line.moment().map_or(i128::MAX, |at| at.as_nanosecond()) ^ i128::MIN;
    let mut key = vec![line.state() as u8];
    key.extend(moment.to_be_bytes());
    push_text(&mut key, line.finding.device.as_str());
    push_text(&mut key, line.finding.subject.as_str());
    key.extend(line.action.id.number().to_be_bytes());
    key
}
