//! Files of the system of record: what it puts into the folder `records` is taken in, beside the sending. A file that can't be taken is put aside,
//! and a person is told.

use super::{Engine, Result};
use rinse_core::DAY;
use rinse_core::Instant;
use rinse_store::imports::records;
use rinse_store::upkeep::return_lines;
use rinse_store::{StoreError, notices};
use std::path::Path;
use std::sync::PoisonError;
use std::time::Duration;

/// The largest file taken, as for one that is brought by hand.
const LARGEST: u64 = 1 << 30;

impl Engine {
    /// Looks for files each minute by the machine's clock.
    pub(super) async fn keep_taking_records(self) {
        let mut minutes = tokio::time::interval(Duration::from_secs(60));
        minutes.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            minutes.tick().await;
            if let Err(e) = self.take_records(self.clock.now()).await {
                tracing::error!("files of the system of record could not be taken: {e}");
            }
        }
    }

    /// Takes in the files that wait, those first that were cut off.
    pub(super) async fn take_records(&self, now: Instant) -> Result<()> {
        for id in self.store.read(records::unfinished).await? {
            if let Err(e) = records::go_on(&self.store, id, now).await {
                self.not_taken(&format!("import {id}"), &e, now).await?;
            }
        }
        let folder = records::folder(&self.store);
        if !tokio::fs::try_exists(&folder).await? {
            return Ok(());
        }
        let from = folder.clone();
        let files = tokio::task::spawn_blocking(move || records::waiting(&from)).await.map_err(|_| StoreError::Stopped)??;
        for file in files {
            let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let done = if tokio::fs::metadata(&file).await?.len() > LARGEST {
                Err(StoreError::Refused("It is over 1 GB.".into()))
            } else {
                records::take(&self.store, &file, now).await
            };
            match done {
                Ok(run) => tracing::info!("{name} of the system of record: {} rows, {} came back", run.records, run.came_back),
                Err(e) => {
                    aside(&folder, &file).await?;
                    self.not_taken(&name, &e, now).await?;
                }
            }
        }
        Ok(())
    }

    async fn not_taken(&self, name: &str, why: &StoreError, now: Instant) -> Result<()> {
        let words = format!("The file {name} of the system of record was not taken in. {why}");
        tracing::warn!("{words}");
        let name = name.to_owned();
        self.store.write(move |c| notices::raise(c, notices::RECORDS, &name, &words, now)).await
    }

    /// On the demo clock: the record-system stand-in sends its copy, once a day.
    pub(super) async fn nightly_file(&self, now: Instant) -> Result<()> {
        let Some(network) = self.transport.network() else { return Ok(()) };
        let day = now.millis().div_euclid(DAY);
        let file = network.lock().unwrap_or_else(PoisonError::into_inner).record_file(day)?;
        if let Some(csv) = file {
            let folder = records::folder(&self.store);
            tokio::fs::create_dir_all(&folder).await?;
            let name = format!("record-system-{}.csv", &now.iso()[..10]);
            tokio::fs::write(folder.join(format!("{name}.part")), csv).await?;
            tokio::fs::rename(folder.join(format!("{name}.part")), folder.join(&name)).await?;
        }
        self.take_records(now).await
    }

    /// Addresses of lines that nobody took in time are forgotten.
    pub(super) async fn forget_lines(&self, now: Instant) -> Result<()> {
        self.store.write(move |c| return_lines::move_on(c, now)).await?;
        Ok(())
    }
}

/// Out of the way, where a person finds it; a file of that name from before is replaced.
async fn aside(folder: &Path, file: &Path) -> std::io::Result<()> {
    let to = folder.join("aside");
    tokio::fs::create_dir_all(&to).await?;
    match tokio::fs::rename(file, to.join(file.file_name().unwrap_or_default())).await {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(()),
        done => done,
    }
}
