//! What follows the log beside the snapshot. It is told of commands that are in force, in their order; it cannot fail
//! whoever made them, and makes good by itself what did not succeed.

use std::sync::Arc;

use regnant_records::{Command, DeviceTexts, RecordName, Records, SealingKey};

use crate::console_tls::ConsoleTls;
use crate::snapshot::Environment;

/// Something that follows the log.
pub(crate) trait Follower: Send + Sync {
    /// Whether anything follows from a command.
    fn concerns(&self, command: &Command) -> bool;

    /// Does what follows from a command that concerns it, which the records have by now.
    fn follow(&self, records: &Arc<Records>, command: &Command);

    /// Does what follows from all that the records have: at a start, and after several commands that concern it.
    fn catch_up(&self, records: &Arc<Records>);
}

/// Every follower.
pub(crate) fn followers(environment: &Environment, texts: &Arc<DeviceTexts>) -> Vec<Box<dyn Follower>> {
    let mut followers: Vec<Box<dyn Follower>> = vec![Box::new(Texts(texts.clone()))];
    if let Some(tls) = &environment.console_tls {
        followers.push(Box::new(Console { tls: tls.clone(), key: environment.key.clone() }));
    }
    followers
}

/// What devices are found by.
struct Texts(Arc<DeviceTexts>);

impl Follower for Texts {
    fn concerns(&self, command: &Command) -> bool {
        let is_device = |name: &RecordName| matches!(name, RecordName::Device { .. });
        !command.rows().devices.is_empty() || command.gone().iter().any(is_device)
    }

    fn follow(&self, records: &Arc<Records>, command: &Command) {
        match self.0.note(records, command.gone(), &command.rows()) {
            Ok(false) => {}
            Ok(true) => self.catch_up(records),
            Err(error) => {
                tracing::error!("what a device is found by was not noted: {error}; all of it is written anew");
                self.catch_up(records);
            }
        }
    }

    /// Writes all of it anew, on a thread of its own.
    fn catch_up(&self, records: &Arc<Records>) {
        write_texts(&self.0, records);
    }
}

/// Writes anew what devices are found by, on a thread of its own.
pub(crate) fn write_texts(texts: &Arc<DeviceTexts>, records: &Arc<Records>) {
    let (texts, records) = (texts.clone(), records.clone());
    std::thread::spawn(move || {
        if let Err(error) = texts.write(&records) {
            tracing::error!("{error}; lists of devices are not searched by words until then");
        }
    });
}

/// What console and API present.
struct Console {
    tls: Arc<ConsoleTls>,
    key: Arc<SealingKey>,
}

impl Follower for Console {
    fn concerns(&self, command: &Command) -> bool {
        command.certificates().any(|name| self.tls.wants(name))
    }

    fn follow(&self, records: &Arc<Records>, _: &Command) {
        self.catch_up(records);
    }

    fn catch_up(&self, records: &Arc<Records>) {
        if let Err(error) = self.tls.refresh(&**records, &self.key) {
            tracing::error!("console and API go on with the certificate that they had: {error}");
        }
    }
}
