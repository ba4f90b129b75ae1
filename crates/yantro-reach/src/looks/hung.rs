//! Questions that the system may never answer: of a mount whose server is gone, of a directory service that is away. Each is
//! asked on a thread of its own with a deadline, and of what hangs already nothing is asked again: neither the loop nor any
//! other look waits for it, and no more threads hang than there are such things.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, mpsc},
    time::{Duration, Instant},
};

use yantro_core::{proof::Answer, words::time::Span};

/// How long one question may take.
pub(crate) const WITHIN: Duration = Duration::from_secs(3);
/// So many may hang at once, each another.
const AT_MOST: usize = 64;

/// What is asked just now: since when, and by how many.
type Asked = HashMap<String, (Instant, usize)>;

fn hanging() -> MutexGuard<'static, Asked> {
    static HANGING: OnceLock<Mutex<Asked>> = OnceLock::new();
    HANGING.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner)
}

/// Notes that something is asked; an error where it hangs already. `about` comes back in errors: `the folder /srv/data`.
fn asked(about: &str, within: Duration) -> Result<(), String> {
    let mut all = hanging();
    let hang = all.values().filter(|(since, _)| since.elapsed() >= WITHIN).count();
    if let Some((since, many)) = all.get_mut(about) {
        if since.elapsed() >= within {
            let since = Span(Duration::from_secs(since.elapsed().as_secs()));
            return Err(format!("{about} does not answer: a look of {since} ago still hangs"));
        }
        *many += 1;
        return Ok(());
    }
    if hang >= AT_MOST {
        return Err(format!("{about} is not looked at: {hang} other looks hang"));
    }
    all.insert(about.to_owned(), (Instant::now(), 1));
    Ok(())
}

/// One that asked has its answer.
fn answered(about: &str) {
    let mut all = hanging();
    if let Some((_, many)) = all.get_mut(about) {
        *many -= 1;
        if *many == 0 {
            all.remove(about);
        }
    }
}

fn begin<T: Send + 'static>(
    about: &str,
    within: Duration,
    ask: impl FnOnce() -> T + Send + 'static,
    tell: impl FnOnce(T) + Send + 'static,
) -> Result<(), String> {
    asked(about, within)?;
    let key = about.to_owned();
    let spawned = std::thread::Builder::new().name("look".to_owned()).stack_size(256 * 1024).spawn(move || {
        let answer = ask();
        answered(&key);
        tell(answer);
    });
    spawned.map(drop).map_err(|error| {
        answered(about);
        format!("{about} is not looked at: no thread can be made ({error})")
    })
}

fn too_long(about: &str, within: Duration) -> String {
    format!("{about} does not answer within {}", Span(within))
}

/// Asks, and waits for the answer at most so long; where threads may block.
pub(crate) fn blocking<T: Send + 'static>(about: &str, within: Duration, ask: impl FnOnce() -> T + Send + 'static) -> Result<T, String> {
    let (tell, told) = mpsc::channel();
    // Whoever asked may have given up by then.
    begin(about, within, ask, move |answer| _ = tell.send(answer))?;
    told.recv_timeout(within).map_err(|_| too_long(about, within))
}

/// Asks, and waits for the answer at most so long.
pub(crate) async fn asking<T: Send + 'static>(
    about: &str,
    within: Duration,
    ask: impl FnOnce() -> T + Send + 'static,
) -> Result<T, String> {
    let (tell, told) = tokio::sync::oneshot::channel();
    begin(about, within, ask, move |answer| _ = tell.send(answer))?;
    match tokio::time::timeout(within, told).await {
        Ok(Ok(answer)) => Ok(answer),
        _ => Err(too_long(about, within)),
    }
}

/// What is lent to questions that may hang: while one does, it is not at hand.
pub(crate) struct Lent<T> {
    about: String,
    at_hand: Arc<Mutex<Option<T>>>,
}

impl<T: Send + 'static> Lent<T> {
    /// `about` comes back in errors, and of what hangs nothing is asked again.
    pub fn new(about: String, what: T) -> Self {
        Self { about, at_hand: Arc::new(Mutex::new(Some(what))) }
    }

    fn lock(&self) -> MutexGuard<'_, Option<T>> {
        self.at_hand.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Asks with it, and waits for the answer at most so long.
    pub async fn ask<A: Send + 'static>(&self, within: Duration, ask: impl FnOnce(&mut T) -> A + Send + 'static) -> Result<A, String> {
        if self.lock().is_none() {
            return Err(format!("{} does not answer: a look before still hangs", self.about));
        }
        let at_hand = Arc::clone(&self.at_hand);
        let asked = asking(&self.about, within, move || {
            let mut what = at_hand.lock().unwrap_or_else(PoisonError::into_inner).take()?;
            let answer = ask(&mut what);
            *at_hand.lock().unwrap_or_else(PoisonError::into_inner) = Some(what);
            Some(answer)
        });
        asked.await?.ok_or_else(|| format!("{} does not answer: a look before still hangs", self.about))
    }

    /// What it has to say without being asked; nothing while it is lent to a question that hangs.
    pub fn says<A>(&self, of: impl FnOnce(&T) -> A) -> Option<A> {
        self.lock().as_ref().map(of)
    }
}

/// A look: one that hangs could not look.
pub(crate) async fn look(about: String, look: impl FnOnce() -> Answer + Send + 'static) -> Answer {
    asking(&about, WITHIN, look).await.unwrap_or_else(Answer::could_not)
}

#[cfg(test)]
mod tests {
    use yantro_core::proof::Verdict;

    use super::*;

    /// A mount whose server never answers: the kernel waits for it for ever.
    struct DeadMount {
        folder: tempfile::TempDir,
        server: Option<std::fs::File>,
    }

    impl DeadMount {
        /// `None` where this account or this machine cannot mount one.
        fn new() -> Option<Self> {
            use std::os::fd::AsRawFd;
            let server = std::fs::File::options().read(true).write(true).open("/dev/fuse").ok()?;
            let folder = tempfile::tempdir().ok()?;
            let options = format!("fd={},rootmode=40000,user_id=0,group_id=0", server.as_raw_fd());
            nix::mount::mount(Some("nobody"), folder.path(), Some("fuse"), nix::mount::MsFlags::empty(), Some(options.as_str())).ok()?;
            Some(Self { folder, server: Some(server) })
        }
    }

    impl Drop for DeadMount {
        fn drop(&mut self) {
            // Without its server every question there ends with an error.
            drop(self.server.take());
            let _ = nix::mount::umount2(self.folder.path(), nix::mount::MntFlags::MNT_DETACH);
        }
    }

    #[tokio::test]
    async fn what_hangs_could_not_be_looked_at_is_asked_once_and_holds_nobody_up() {
        let Some(mount) = DeadMount::new() else {
            eprintln!("no mount can be made here: left out");
            return;
        };
        let inside = mount.folder.path().join("data");
        let stat = |about: &str| {
            let (path, about) = (inside.clone(), about.to_owned());
            async move { asking(&about, Duration::from_millis(300), move || std::fs::metadata(path).is_ok()).await }
        };
        let began = Instant::now();
        let first = stat("the file there").await.unwrap_err();
        assert!(first.contains("does not answer within"), "{first}");
        let second = stat("the file there").await.unwrap_err();
        assert!(second.contains("still hangs"), "{second}");
        let other = look("the folder /".to_owned(), || Answer::holds("there")).await;
        assert_eq!(other.verdict, Verdict::Holds, "all else is looked at");
        assert!(began.elapsed() < Duration::from_secs(20));
        assert_eq!(hanging().get("the file there").map(|(_, many)| *many), Some(1), "and no more threads hang than one");
        drop(mount);
        let began = Instant::now();
        while hanging().contains_key("the file there") && began.elapsed() < Duration::from_secs(60) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        assert_eq!(asking("the file there", WITHIN, || 7).await, Ok(7), "once it answers it is asked again");
    }

    #[tokio::test]
    async fn what_is_lent_to_a_question_that_hangs_is_not_at_hand_and_comes_back() {
        let lent = Lent::new("the log of a test".to_owned(), 7);
        assert_eq!(
            lent.ask(WITHIN, |n| {
                *n += 1;
                *n
            })
            .await,
            Ok(8)
        );
        let (go, gone) = mpsc::channel::<()>();
        let late = lent
            .ask(Duration::from_millis(50), move |n| {
                let _ = gone.recv();
                *n += 1;
            })
            .await
            .unwrap_err();
        assert!(late.contains("the log of a test does not answer within"), "{late}");
        assert_eq!(lent.says(|n| *n), None);
        let again = lent.ask(WITHIN, |n| *n).await.unwrap_err();
        assert!(again.contains("still hangs"), "{again}");
        drop(go);
        let began = Instant::now();
        while lent.says(|n| *n).is_none() && began.elapsed() < Duration::from_secs(60) {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        assert_eq!(lent.ask(WITHIN, |n| *n).await, Ok(9), "nothing of it is lost");
    }

    #[test]
    fn where_threads_may_block_it_has_a_deadline_too() {
        let (go, gone) = mpsc::channel::<()>();
        let refused = blocking("the key", Duration::from_millis(100), move || gone.recv().is_ok()).unwrap_err();
        assert!(refused.contains("the key does not answer within"), "{refused}");
        drop(go);
    }
}
