//! The start: what a stop interrupted goes on, and mail that falls due is sent.

use crate::handlers;
use crate::state::App;
use rinse_core::standing::{ChangeState, FileState};

impl App {
    /// Goes on with what a stop interrupted, and keeps sending what falls due by the machine's clock.
    pub fn start(&self) {
        tokio::spawn(self.clone().keep_within());
        self.engine.judge_beside();
        tokio::spawn(crate::keeping::keep_counting(self.clone(), crate::router::own_router(self.clone())));
        let app = self.clone();
        tokio::spawn(async move {
            app.resume_imports().await;
            handlers::history::resume(&app).await;
            app.resume_undoing().await;
            app.engine.run().await;
        });
    }

    async fn resume_imports(&self) {
        let Ok(runs) = self.store.read(rinse_store::imports::runs).await else { return };
        for run in runs.into_iter().filter(|r| r.state == FileState::Applying) {
            handlers::imports::start_apply(self, run.id, None);
        }
    }

    async fn resume_undoing(&self) {
        let now = self.now();
        let Ok(runs) = self.store.read(move |c| rinse_store::runs::all(c, now)).await else { return };
        for run in runs.into_iter().filter(|r| r.state == ChangeState::Undoing) {
            handlers::changes::start_undo(self, run.id, None);
        }
    }
}
