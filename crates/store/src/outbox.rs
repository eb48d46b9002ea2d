//! Deliveries, the actions that they carry, and approvals. A delivery is claimed before it is made and settled after it, so that
//! nothing goes out of which the ledger does not know.

use jiff::Timestamp;
use rusqlite::{Row, params};

use crate::error::LedgerError;
use crate::reader::Reader;
use crate::rows::{micros, moment};
use crate::writer::{Added, Writer};

/// How far a delivery has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DeliveryState {
    /// It was begun; where no program is at it, nobody knows whether it went out.
    Claimed,
    /// It went out, and was taken.
    Delivered,
    /// It did not go out.
    Failed,
    /// Whether it went out is not known, and it is needed no more.
    GivenUp,
}

impl DeliveryState {
    const ALL: [Self; 4] = [Self::Claimed, Self::Delivered, Self::Failed, Self::GivenUp];

    fn as_str(self) -> &'static str {
        match self {
            Self::Claimed => "claimed",
            Self::Delivered => "delivered",
            Self::Failed => "failed",
            Self::GivenUp => "given-up",
        }
    }

    fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.as_str() == text)
    }
}

/// A delivery as it is claimed.
#[derive(Clone, Debug)]
pub struct NewDelivery<'d> {
    /// What the receiver knows it by, the same however often it is tried.
    pub key: &'d str,
    /// The channel's id.
    pub channel: &'d str,
    /// Whom it is for: an address, a recipient, or a device.
    pub recipient: &'d str,
    /// What goes out.
    pub content: &'d [u8],
    /// What it carries out.
    pub actions: &'d [ActionKey],
}

/// An action, as deliveries name it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ActionKey {
    /// Its id.
    pub action: u64,
    /// The finding.
    pub finding: u64,
    /// The device's name.
    pub device: String,
    /// The step of the ladder.
    pub step: String,
}

/// A delivery.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeliveryRow {
    /// Its id; later ones have larger ones.
    pub id: i64,
    /// What the receiver knows it by.
    pub key: String,
    /// The channel's id.
    pub channel: String,
    /// Whom it is for.
    pub recipient: String,
    /// How far it has come.
    pub state: DeliveryState,
    /// What the receiver of a command last said of it.
    pub answer: Option<String>,
    /// How often it was tried.
    pub attempts: u32,
    /// When it was tried last.
    pub at: Timestamp,
    /// Why it failed, or what the receiver said.
    pub because: Option<String>,
}

/// An action with the delivery that carries it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ActionRow {
    /// The action.
    pub key: ActionKey,
    /// What the receiver knows the delivery by.
    pub delivery: String,
    /// How far that has come.
    pub state: DeliveryState,
    /// What the receiver of a command last said of it.
    pub answer: Option<String>,
    /// How often it was tried.
    pub attempts: u32,
    /// When it was tried last.
    pub at: Timestamp,
    /// Why it failed, or what the receiver said.
    pub because: Option<String>,
}

/// How a delivery went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SettledDelivery<'s> {
    /// How far it has come.
    pub state: DeliveryState,
    /// What the receiver of a command said.
    pub answer: Option<&'s str>,
    /// Why, in words.
    pub because: Option<&'s str>,
}

/// That somebody approved an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ApprovalRow {
    /// The action.
    pub action: u64,
    /// When.
    pub at: Timestamp,
    /// The newest moment of collection among the evidence that was approved.
    pub evidence_at: Option<Timestamp>,
    /// Who.
    pub by: String,
    /// Why.
    pub because: String,
}

/// How far a setting got on a device, as a feed says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SettingRow {
    /// The device.
    pub device: String,
    /// The setting.
    pub setting: String,
    /// How far it got.
    pub state: String,
    /// Why.
    pub because: Option<String>,
    /// When.
    pub at: Timestamp,
}

/// How far a setting got, with who says so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourcedSetting {
    /// What is said.
    pub row: SettingRow,
    /// The feed.
    pub source: String,
}

impl Writer<'_> {
    /// Adds how far a setting got; none where the device is not known.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn add_setting(&self, run: i64, source: &str, row: &SettingRow) -> Result<Option<Added>, LedgerError> {
        let device = self.one("SELECT id FROM device WHERE name = ?1", [&row.device], |row| row.get::<_, i64>(0))?;
        let Some(device) = device else { return Ok(None) };
        let last = self.one(
            "SELECT max(at) FROM setting_state WHERE device = ?1 AND setting = ?2 AND source = ?3",
            params![device, row.setting, source],
            |row| row.get::<_, Option<i64>>(0),
        )?;
        let last = last.flatten();
        let added = self.run_sql(
            "INSERT OR IGNORE INTO setting_state (device, setting, source, at, state, because, run) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![device, row.setting, source, micros(row.at), row.state, row.because, run],
        )?;
        Ok(Some(match (added, last) {
            (0, _) => Added::Known,
            (_, Some(last)) if last > micros(row.at) => Added::Older,
            (_, last) => Added::Current { new_device: last.is_none(), changed: last.is_some() },
        }))
    }

    /// Claims a delivery that is about to be made, and returns its id: a new one, or the one of the same key, tried once more.
    ///
    /// # Errors
    /// When the ledger cannot be written; so for every function here.
    pub fn claim_delivery(&mut self, new: &NewDelivery<'_>, at: Timestamp) -> Result<i64, LedgerError> {
        let content = self.pack(new.content)?;
        let known = self.one("SELECT id FROM delivery WHERE key = ?1", [new.key], |row| row.get::<_, i64>(0))?;
        let id = match known {
            Some(id) => {
                self.run_sql(
                    "UPDATE delivery SET state = 'claimed', answer = NULL, because = NULL, attempts = attempts + 1, \
                     at = ?2, channel = ?3, recipient = ?4, content = ?5 WHERE id = ?1",
                    params![id, micros(at), new.channel, new.recipient, content],
                )?;
                id
            }
            None => {
                self.run_sql(
                    "INSERT INTO delivery (key, channel, recipient, state, attempts, at, content) \
                     VALUES (?1, ?2, ?3, 'claimed', 1, ?4, ?5)",
                    params![new.key, new.channel, new.recipient, micros(at), content],
                )?;
                self.last_id()
            }
        };
        for action in new.actions {
            self.run_sql(
                "INSERT OR IGNORE INTO action (id, delivery, finding, device, step) \
                 SELECT ?1, ?2, ?3, d.id, ?5 FROM device d WHERE d.name = ?4",
                params![action.action.cast_signed(), id, action.finding.cast_signed(), action.device, action.step],
            )?;
        }
        Ok(id)
    }

    /// Claims a delivery of which it is not known whether it went out, to try it once more.
    pub fn claim_again(&self, delivery: i64, at: Timestamp) -> Result<(), LedgerError> {
        let sql = "UPDATE delivery SET state = 'claimed', attempts = attempts + 1, at = ?2 WHERE id = ?1";
        self.run_sql(sql, params![delivery, micros(at)]).map(|_| ())
    }

    /// Says how a delivery went.
    pub fn settle_delivery(&self, delivery: i64, settled: &SettledDelivery<'_>) -> Result<(), LedgerError> {
        self.run_sql(
            "UPDATE delivery SET state = ?2, answer = ?3, because = ?4 WHERE id = ?1",
            params![delivery, settled.state.as_str(), settled.answer, settled.because],
        )
        .map(|_| ())
    }

    /// Keeps that somebody approved an action; of one that was approved before the latest counts.
    pub fn add_approval(&self, approval: &ApprovalRow) -> Result<(), LedgerError> {
        self.run_sql(
            "INSERT OR REPLACE INTO approval (action, at, evidence_at, by_whom, because) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![
                approval.action.cast_signed(),
                micros(approval.at),
                approval.evidence_at.map(micros),
                approval.by,
                approval.because
            ],
        )
        .map(|_| ())
    }
}

const DELIVERY: &str = "SELECT id, key, channel, recipient, state, answer, attempts, at, because FROM delivery";
const ACTION: &str = "SELECT a.id, a.finding, d.name, a.step, l.key, l.state, l.answer, l.attempts, l.at, l.because \
     FROM action a JOIN device d ON d.id = a.device JOIN delivery l ON l.id = a.delivery";

impl Reader<'_> {
    /// Goes through all deliveries, the latest first.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every function here.
    pub fn each_delivery<E: From<LedgerError>>(
        &self,
        mut each: impl FnMut(DeliveryRow) -> Result<(), E>,
    ) -> Result<(), E> {
        let failed = self.failed();
        let sql = format!("{DELIVERY} ORDER BY id DESC");
        let mut statement = self.connection.prepare_cached(&sql).map_err(&failed)?;
        let mut rows = statement.query([]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            each(delivery_row(row).map_err(&failed)?)?;
        }
        Ok(())
    }

    /// Returns the deliveries of which it is not known whether they went out, the oldest first.
    pub fn deliveries_in_doubt(&self) -> Result<Vec<DeliveryRow>, LedgerError> {
        self.all(&format!("{DELIVERY} WHERE state = 'claimed' ORDER BY id"), [], delivery_row)
    }

    /// Returns the commands that were delivered, and of which the receiver has not said yet how they ended.
    pub fn commands_under_way(&self) -> Result<Vec<DeliveryRow>, LedgerError> {
        let sql = format!("{DELIVERY} WHERE state = 'delivered' AND answer IN ('accepted', 'pending') ORDER BY id");
        self.all(&sql, [], delivery_row)
    }

    /// Returns the delivery of a key.
    pub fn delivery_of_key(&self, key: &str) -> Result<Option<DeliveryRow>, LedgerError> {
        Ok(self.all(&format!("{DELIVERY} WHERE key = ?1"), [key], delivery_row)?.pop())
    }

    /// Returns what a delivery carries out to its receiver; empty where that was trimmed.
    pub fn delivery_content(&self, delivery: i64) -> Result<Vec<u8>, LedgerError> {
        let sql = "SELECT content FROM delivery WHERE id = ?1";
        let packed = self.all(sql, [delivery], |row| row.get::<_, Vec<u8>>(0))?.pop().unwrap_or_default();
        if packed.is_empty() {
            return Ok(packed);
        }
        self.unpack(&packed)
    }

    /// Returns the actions of a delivery.
    pub fn actions_of(&self, delivery: i64) -> Result<Vec<ActionRow>, LedgerError> {
        self.all(&format!("{ACTION} WHERE a.delivery = ?1 ORDER BY d.name, a.id"), [delivery], action_row)
    }

    /// Goes through all actions that some delivery carries, in the order of the deliveries.
    pub fn each_action(&self, mut each: impl FnMut(ActionRow)) -> Result<(), LedgerError> {
        let failed = self.failed();
        let sql = format!("{ACTION} ORDER BY a.delivery");
        let mut statement = self.connection.prepare_cached(&sql).map_err(&failed)?;
        let mut rows = statement.query([]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            each(action_row(row).map_err(&failed)?);
        }
        Ok(())
    }

    /// Returns every approval.
    pub fn approvals(&self) -> Result<Vec<ApprovalRow>, LedgerError> {
        self.all("SELECT action, at, evidence_at, by_whom, because FROM approval", [], |row| {
            Ok(ApprovalRow {
                action: row.get::<_, i64>(0)?.cast_unsigned(),
                at: moment(row.get(1)?),
                evidence_at: row.get::<_, Option<i64>>(2)?.map(moment),
                by: row.get(3)?,
                because: row.get(4)?,
            })
        })
    }

    /// Returns the devices for which something went out, or may have, after a moment.
    pub fn devices_acted_on_after(&self, at: Timestamp) -> Result<Vec<String>, LedgerError> {
        self.all(
            "SELECT DISTINCT d.name FROM delivery l JOIN action a ON a.delivery = l.id JOIN device d ON d.id = a.device \
             WHERE l.at > ?1 AND l.state IN ('claimed', 'delivered') ORDER BY d.name",
            [micros(at)],
            |row| row.get(0),
        )
    }

    /// Returns the devices with which somebody was newly denied something by an assessment after a moment.
    pub fn devices_newly_denied_after(&self, at: Timestamp) -> Result<Vec<String>, LedgerError> {
        self.all(
            "SELECT DISTINCT d.name FROM spell s JOIN device d ON d.id = s.device \
             WHERE s.kind = 'decision' AND s.value = 'deny' AND s.to_run IS NULL \
             AND s.from_run IN (SELECT id FROM run WHERE kind = 'assess' AND as_of > ?1) \
             AND EXISTS (SELECT 1 FROM spell b WHERE b.device = s.device AND b.kind = 'decision' AND b.subject = s.subject \
                 AND b.to_run = s.from_run AND b.value <> 'deny') ORDER BY d.name",
            [micros(at)],
            |row| row.get(0),
        )
    }

    /// Returns how far settings got, by device and setting: what each source last said, as of a run.
    pub fn settings(&self, run: Option<i64>) -> Result<Vec<SourcedSetting>, LedgerError> {
        self.all(
            "SELECT d.name, s.setting, s.state, s.because, s.at, s.source FROM setting_state s JOIN device d ON d.id = s.device \
             WHERE s.run <= ?1 AND s.at = (SELECT max(n.at) FROM setting_state n WHERE n.device = s.device \
                 AND n.setting = s.setting AND n.source = s.source AND n.run <= ?1) ORDER BY d.name, s.setting, s.source",
            [run.unwrap_or(i64::MAX)],
            setting_row,
        )
    }

    /// Returns how far settings got on one device.
    pub fn settings_of(&self, device: &str, run: Option<i64>) -> Result<Vec<SourcedSetting>, LedgerError> {
        self.all(
            "SELECT d.name, s.setting, s.state, s.because, s.at, s.source FROM device d JOIN setting_state s ON s.device = d.id \
             WHERE d.name = ?1 AND s.run <= ?2 AND s.at = (SELECT max(n.at) FROM setting_state n WHERE n.device = s.device \
                 AND n.setting = s.setting AND n.source = s.source AND n.run <= ?2) ORDER BY s.setting, s.source",
            params![device, run.unwrap_or(i64::MAX)],
            setting_row,
        )
    }

    /// Returns the ids of those who hold devices, by the last assessment.
    pub fn holders(&self) -> Result<Vec<String>, LedgerError> {
        self.all("SELECT DISTINCT person FROM holder ORDER BY person", [], |row| row.get(0))
    }

    /// Returns the moment of the latest attempt to deliver anything.
    pub fn last_delivery(&self) -> Result<Option<Timestamp>, LedgerError> {
        let latest = self.all("SELECT max(at) FROM delivery", [], |row| row.get::<_, Option<i64>>(0))?;
        Ok(latest.into_iter().flatten().next().map(moment))
    }
}

fn state(row: &Row<'_>, column: usize) -> rusqlite::Result<DeliveryState> {
    let text = row.get_ref(column)?.as_str()?;
    DeliveryState::parse(text)
        .ok_or_else(|| rusqlite::Error::InvalidColumnType(column, text.to_owned(), rusqlite::types::Type::Text))
}

fn setting_row(row: &Row<'_>) -> rusqlite::Result<SourcedSetting> {
    Ok(SourcedSetting {
        row: SettingRow {
            device: row.get(0)?,
            setting: row.get(1)?,
            state: row.get(2)?,
            because: row.get(3)?,
            at: moment(row.get(4)?),
        },
        source: row.get(5)?,
    })
}

fn delivery_row(row: &Row<'_>) -> rusqlite::Result<DeliveryRow> {
    Ok(DeliveryRow {
        id: row.get(0)?,
        key: row.get(1)?,
        channel: row.get(2)?,
        recipient: row.get(3)?,
        state: state(row, 4)?,
        answer: row.get(5)?,
        attempts: row.get(6)?,
        at: moment(row.get(7)?),
        because: row.get(8)?,
    })
}

fn action_row(row: &Row<'_>) -> rusqlite::Result<ActionRow> {
    Ok(ActionRow {
        key: ActionKey {
            action: row.get::<_, i64>(0)?.cast_unsigned(),
            finding: row.get::<_, i64>(1)?.cast_unsigned(),
            device: row.get(2)?,
            step: row.get(3)?,
        },
        delivery: row.get(4)?,
        state: state(row, 5)?,
        answer: row.get(6)?,
        attempts: row.get(7)?,
        at: moment(row.get(8)?),
        because: row.get(9)?,
    })
}
