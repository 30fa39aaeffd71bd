//! Goes on looking at the revocation lists of foreign authorities, and makes sessions look again when one changes or ends.

use std::sync::Arc;
use std::time::Duration;

use tidy_warden_serve::lists::MakerFiles;

use crate::Event;
use crate::follower::look_up;
use crate::shared::Shared;

/// How often it is asked whether a file is another one.
const LOOK: Duration = Duration::from_secs(2);

/// Reads the files that are others than before; says whether anything changed.
pub(crate) async fn look(files: &mut MakerFiles, shared: &Shared) -> bool {
    let (wanted, trust, knowledge) = (shared.live().maker_files.clone(), shared.trust.now(), &shared.knowledge);
    let tell = |what| shared.emit(Event::Trouble { what });
    files.look(&wanted, &trust, &knowledge.maker_lists, knowledge.now(), &tell).await
}

/// Goes on looking.
pub(crate) async fn follow(mut files: MakerFiles, shared: Arc<Shared>) {
    loop {
        tokio::time::sleep(LOOK).await;
        if look(&mut files, &shared).await {
            look_up(&shared, shared.knowledge.now(), None).await;
        }
    }
}
