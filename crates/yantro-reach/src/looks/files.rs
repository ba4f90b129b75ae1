//! Wakes who waits for a file to be written, made or renamed: by the system's own notification.

use std::{
    collections::HashMap,
    ffi::OsString,
    os::fd::{AsFd, AsRawFd, RawFd},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError, Weak},
};

use nix::{
    errno::Errno,
    sys::inotify::{AddWatchFlags, InitFlags, Inotify, WatchDescriptor},
};
use tokio::{io::unix::AsyncFd, sync::Notify, task::JoinHandle};

use crate::looks::hung;

/// What is news: written to, cut off, made, renamed, taken away.
const NEWS: AddWatchFlags = AddWatchFlags::IN_MODIFY
    .union(AddWatchFlags::IN_CREATE)
    .union(AddWatchFlags::IN_MOVED_TO)
    .union(AddWatchFlags::IN_MOVED_FROM)
    .union(AddWatchFlags::IN_ATTRIB)
    .union(AddWatchFlags::IN_DELETE);

/// Every file that somebody waits for. One for the whole server, since a system has few instances.
pub(crate) struct FileEvents {
    shared: Arc<Shared>,
    reader: Option<JoinHandle<()>>,
}

struct Shared {
    /// `None` where the system has no instance left: everything is polled then.
    queue: Option<AsyncFd<Queue>>,
    folders: Mutex<Folders>,
}

struct Queue(Inotify);

impl AsRawFd for Queue {
    fn as_raw_fd(&self) -> RawFd {
        self.0.as_fd().as_raw_fd()
    }
}

#[derive(Default)]
struct Folders {
    by_path: HashMap<PathBuf, WatchDescriptor>,
    waiting: HashMap<WatchDescriptor, HashMap<OsString, Vec<Weak<Notify>>>>,
}

/// Somebody's interest in some files, until dropped.
pub(crate) struct Interest {
    shared: Arc<Shared>,
    notify: Arc<Notify>,
    paths: Vec<PathBuf>,
    complete: bool,
}

impl FileEvents {
    /// Must be made within a tokio runtime.
    pub fn new() -> Self {
        let queue = Inotify::init(InitFlags::IN_NONBLOCK | InitFlags::IN_CLOEXEC)
            .inspect_err(|error| tracing::warn!(%error, "files are polled: the system gives no notifications"))
            .ok()
            // Sound: the descriptor lives inside the AsyncFd and is not closed before it.
            .and_then(|i| unsafe { AsyncFd::register(Queue(i)) }.ok());
        let shared = Arc::new(Shared { queue, folders: Mutex::default() });
        let reader = shared.queue.is_some().then(|| tokio::spawn(Arc::clone(&shared).read()));
        Self { shared, reader }
    }

    /// Waits for these files from now on, whether they are there yet or not.
    pub async fn interest(&self, paths: Vec<PathBuf>) -> Interest {
        let mut interest = Interest { shared: Arc::clone(&self.shared), notify: Arc::new(Notify::new()), paths, complete: false };
        interest.watch().await;
        interest
    }
}

impl Drop for FileEvents {
    fn drop(&mut self) {
        if let Some(reader) = &self.reader {
            reader.abort();
        }
    }
}

impl Interest {
    /// Whether the system tells of every one of the files: else they have to be polled.
    pub async fn is_complete(&mut self) -> bool {
        // A folder may have been made meanwhile, or taken away and made anew.
        if !self.complete || !self.paths.iter().all(|p| self.shared.watches_folder_of(p)) {
            self.watch().await;
        }
        self.complete
    }

    /// Whether the system told of every one of the files when that was asked last.
    pub fn was_complete(&self) -> bool {
        self.complete
    }

    /// Waits until one of the files changed since the last call.
    pub async fn changed(&self) {
        self.notify.notified().await;
    }

    /// The folders may be on a mount whose server is gone: then they are polled.
    async fn watch(&mut self) {
        let Some(first) = self.paths.first() else {
            self.complete = true;
            return;
        };
        let about = format!("the folder of {}", first.display());
        let (shared, notify, paths) = (Arc::clone(&self.shared), Arc::clone(&self.notify), self.paths.clone());
        let watched = hung::asking(&about, hung::WITHIN, move || {
            let complete = paths.iter().all(|path| {
                // A link's own folder never hears of what is written behind it.
                let behind = path.canonicalize().ok().filter(|real| real != path);
                shared.wait_for(path, &notify) && behind.is_none_or(|real| shared.wait_for(&real, &notify))
            });
            if Arc::strong_count(&notify) == 1 {
                // Whoever was interested has gone meanwhile.
                shared.forget(&notify);
            }
            complete
        });
        self.complete = watched.await.unwrap_or(false);
    }
}

impl Drop for Interest {
    fn drop(&mut self) {
        self.shared.forget(&self.notify);
    }
}

impl Shared {
    fn folders(&self) -> MutexGuard<'_, Folders> {
        self.folders.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait_for(&self, path: &Path, notify: &Arc<Notify>) -> bool {
        let (Some(queue), Some(folder), Some(name)) = (&self.queue, path.parent(), path.file_name()) else { return false };
        let known = self.folders().by_path.get(folder).copied();
        // Asked while nobody is kept waiting: it may hang.
        let Some(folder_watch) = known.or_else(|| queue.get_ref().0.add_watch(folder, NEWS).ok()) else { return false };
        let mut folders = self.folders();
        folders.by_path.insert(folder.to_path_buf(), folder_watch);
        let waiting = folders.waiting.entry(folder_watch).or_default().entry(name.to_owned()).or_default();
        if !waiting.iter().any(|w| std::ptr::eq(w.as_ptr(), Arc::as_ptr(notify))) {
            waiting.push(Arc::downgrade(notify));
        }
        true
    }

    fn watches_folder_of(&self, path: &Path) -> bool {
        path.parent().is_some_and(|folder| self.folders().by_path.contains_key(folder))
    }

    /// Forgets an interest; a folder that nobody waits for is watched no longer.
    fn forget(&self, notify: &Arc<Notify>) {
        let Some(queue) = &self.queue else { return };
        let mut folders = self.folders();
        let Folders { by_path, waiting } = &mut *folders;
        waiting.retain(|watch, names| {
            names.retain(|_, who| {
                who.retain(|w| !std::ptr::eq(w.as_ptr(), Arc::as_ptr(notify)));
                !who.is_empty()
            });
            if names.is_empty() {
                by_path.retain(|_, w| w != watch);
                // A folder that is gone took its watch along.
                let _ = queue.get_ref().0.rm_watch(*watch);
            }
            !names.is_empty()
        });
    }

    async fn read(self: Arc<Self>) {
        let Some(queue) = &self.queue else { return };
        loop {
            let Ok(mut ready) = queue.readable().await else { return };
            match queue.get_ref().0.read_events() {
                Ok(events) => events.iter().for_each(|e| self.tell(e.wd, e.mask, e.name.as_ref())),
                Err(Errno::EAGAIN) => ready.clear_ready(),
                Err(error) => {
                    tracing::warn!(%error, "the system's notifications of files cannot be read");
                    return;
                }
            }
        }
    }

    fn tell(&self, watch: WatchDescriptor, mask: AddWatchFlags, name: Option<&OsString>) {
        let mut folders = self.folders();
        let wake = |who: &Weak<Notify>| {
            if let Some(notify) = who.upgrade() {
                notify.notify_one();
            }
        };
        if mask.contains(AddWatchFlags::IN_Q_OVERFLOW) {
            folders.waiting.values().flat_map(HashMap::values).flatten().for_each(wake);
        } else if mask.contains(AddWatchFlags::IN_IGNORED) {
            // The folder is gone. Whoever waits looks, and watches the one made in its place.
            folders.by_path.retain(|_, w| *w != watch);
            folders.waiting.remove(&watch).into_iter().flatten().flat_map(|(_, who)| who).for_each(|w| wake(&w));
        } else if let Some(waiting) = name.and_then(|n| folders.waiting.get(&watch)?.get(n)) {
            waiting.iter().for_each(wake);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::{fs, time::Duration};

    use rstest::rstest;

    use super::*;

    fn append(path: &Path) {
        use std::io::Write;
        fs::OpenOptions::new().append(true).create(true).open(path).unwrap().write_all(b"line\n").unwrap();
    }

    async fn within_a_while(interest: &Interest) -> bool {
        tokio::time::timeout(Duration::from_secs(10), interest.changed()).await.is_ok()
    }

    #[rstest]
    #[case::made(|p: &Path| append(p))]
    #[case::renamed_into(|p: &Path| { append(&p.with_extension("half")); fs::rename(p.with_extension("half"), p).unwrap(); })]
    #[tokio::test]
    async fn a_file_that_comes_wakes_who_waits(#[case] come: fn(&Path)) {
        let (dir, events) = (tempfile::tempdir().unwrap(), FileEvents::new());
        let path = dir.path().join("fares.log");
        let mut interest = events.interest(vec![path.clone()]).await;
        assert!(interest.is_complete().await);
        come(&path);
        assert!(within_a_while(&interest).await);
    }

    #[tokio::test]
    async fn what_is_written_behind_a_link_wakes_too() {
        let (dir, events) = (tempfile::tempdir().unwrap(), FileEvents::new());
        let (real, link) = (dir.path().join("deep/real.log"), dir.path().join("link.log"));
        fs::create_dir(dir.path().join("deep")).unwrap();
        append(&real);
        std::os::unix::fs::symlink(&real, &link).unwrap();
        let interest = events.interest(vec![link]).await;
        append(&real);
        assert!(within_a_while(&interest).await);
    }

    #[tokio::test]
    async fn a_folder_that_is_not_there_yet_is_polled_until_it_is() {
        let (dir, events) = (tempfile::tempdir().unwrap(), FileEvents::new());
        let path = dir.path().join("later/fares.log");
        let mut interest = events.interest(vec![path.clone()]).await;
        assert!(!interest.is_complete().await);
        fs::create_dir(dir.path().join("later")).unwrap();
        assert!(interest.is_complete().await);
        append(&path);
        assert!(within_a_while(&interest).await);
    }

    #[tokio::test]
    async fn a_folder_is_watched_only_while_somebody_waits() {
        let (dir, events) = (tempfile::tempdir().unwrap(), FileEvents::new());
        let (one, other) = (dir.path().join("one.log"), dir.path().join("other.log"));
        let first = events.interest(vec![one.clone()]).await;
        let second = events.interest(vec![other.clone()]).await;
        drop(first);
        append(&one);
        append(&other);
        assert!(within_a_while(&second).await);
        drop(second);
        let folders = events.shared.folders();
        assert!(folders.by_path.is_empty() && folders.waiting.is_empty());
    }
}
