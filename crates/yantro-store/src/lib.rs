//! What Yantro keeps, in SQLite: editions, runs and their events, what services were started as,
//! how long steps took, and the audit trail. All SQL is here.
//!
//! One [`Writer`] and any number of [`Reader`]s, each on a connection of its own. A [`Batch`] lands
//! whole or not at all, durable when [`Writer::commit`] returns.

mod reader;
mod rows;
mod schema;
mod writer;

pub use reader::Reader;
pub use rows::{AuditRow, Batch, Edition, IntendedDown, StartedAs, StoreError, StreamEvent};
pub use writer::Writer;

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use rusqlite::{Connection, params};
    use yantro_core::{
        proof::LogAgainst,
        run::{Event, RunId, RunSummary, Stamped},
        words::{kinds::StepKind, name::Address, time::Timestamp},
    };

    use super::*;

    fn event(no: u64) -> (RunId, Stamped) {
        (RunId(1), Stamped { no, at: Timestamp::from_ms(1000 + no as i64), event: Event::Locked })
    }

    fn row(steps_ended: u32) -> RunSummary {
        RunSummary {
            id: RunId(1),
            state: "running".into(),
            title: "restart quay-1/fares-db".into(),
            who: "maren".into(),
            began_at: Timestamp::from_ms(1000),
            ended_at: None,
            steps: 2,
            steps_ended,
        }
    }

    #[test]
    fn migrations_apply_to_an_empty_file() {
        schema::migrations().validate().unwrap();
    }

    #[test]
    fn a_batch_lands_and_is_read_back() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let ids = writer.commit(&Batch { events: vec![event(1), event(2)], runs: vec![row(0)], ..Batch::default() }).unwrap();
        let reader = Reader::open(&path).unwrap();
        assert_eq!(reader.events_of(RunId(1)).unwrap().len(), 2);
        assert_eq!(reader.events_after(ids[0], 10).unwrap()[0].id, ids[1]);
        assert_eq!(reader.open_runs().unwrap(), [RunId(1)]);
    }

    /// The log is as long from the first as it becomes, so that no commit has to make it longer; and a server that dies
    /// leaves one in which only what was stored counts.
    #[test]
    fn a_log_that_is_longer_than_what_was_stored_is_read_back_to_there() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let length = |log: &str| std::fs::metadata(dir.path().join(log)).unwrap().len();
        let before = length("yantro.db-wal");
        for no in 1..=1_500 {
            writer.commit(&Batch { events: vec![event(no)], runs: vec![row(0)], ..Batch::default() }).unwrap();
        }
        assert_eq!(length("yantro.db-wal"), before);
        // As a server leaves them that is ended in the middle.
        for file in ["yantro.db", "yantro.db-wal"] {
            std::fs::copy(dir.path().join(file), dir.path().join(file.replace("yantro", "left"))).unwrap();
        }
        let left = dir.path().join("left.db");
        let mut writer = Writer::open(&left).unwrap();
        assert_eq!(Reader::open(&left).unwrap().events_of(RunId(1)).unwrap().len(), 1_500);
        writer.commit(&Batch { events: vec![event(1_501)], ..Batch::default() }).unwrap();
        assert_eq!(Reader::open(&left).unwrap().events_of(RunId(1)).unwrap().len(), 1_501);
    }

    #[test]
    fn editions_tell_what_was_edited_since_the_last_load() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let mut edition = |no: u64, edited: Option<&str>| {
            let edition = Edition {
                no,
                at: Timestamp::from_ms(no as i64),
                who: "maren".into(),
                why: None,
                text: format!("edition {no}"),
                folder: "/e".into(),
                edited: edited.map(str::to_owned),
            };
            writer.commit(&Batch { edition: Some(edition), ..Batch::default() }).unwrap();
        };
        edition(1, None);
        edition(2, Some("night"));
        edition(3, Some("dusk"));
        edition(4, Some("night"));
        let reader = Reader::open(&path).unwrap();
        let mut edited = reader.edited_since_load().unwrap();
        edited.sort();
        assert_eq!(edited, ["dusk", "night"]);
        assert_eq!(reader.newest_editions(2).unwrap().iter().map(|e| e.no).collect::<Vec<_>>(), [4, 3]);
        assert_eq!(reader.edition(2).unwrap().unwrap().edited.as_deref(), Some("night"));
        edition(5, None);
        assert!(reader.edited_since_load().unwrap().is_empty());
        assert_eq!(reader.newest_edition().unwrap().unwrap().text, "edition 5");
    }

    #[test]
    fn what_an_older_store_says_is_down_on_purpose_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut older = Connection::open(&path).unwrap();
        schema::migrations().to_version(&mut older, 4).unwrap();
        for (address, body) in [
            ("h/db", r#"{"run":1,"intended_down":[3,"maren"]}"#),
            ("h/app", r#"{"run":1,"intended_down":null}"#),
            ("h/gate", r#"{"run":1}"#),
        ] {
            older.execute("INSERT INTO started (address, body) VALUES (?1, ?2)", params![address, body]).unwrap();
        }
        drop(older);
        drop(Writer::open(&path).unwrap());
        let kept = Reader::open(&path).unwrap().intended_down().unwrap();
        let intended = IntendedDown { run: RunId(3), who: "maren".into(), why: None };
        assert_eq!(kept, [("h/db".parse().unwrap(), intended)]);
    }

    #[test]
    fn an_identity_stands_for_one_run_only() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let batch = Batch { runs: vec![row(0)], asked_as: vec![("a1".into(), RunId(1))], ..Batch::default() };
        writer.commit(&batch).unwrap();
        let reader = Reader::open(&path).unwrap();
        assert_eq!((reader.asked_as("a1").unwrap(), reader.asked_as("a2").unwrap()), (Some(RunId(1)), None));
        let twice = writer.commit(&Batch { asked_as: vec![("a1".into(), RunId(1))], ..Batch::default() }).unwrap_err();
        assert!(!twice.is_passing(), "no trying again makes it good: {twice}");
    }

    #[test]
    fn an_event_number_cannot_be_stored_twice() {
        let dir = tempfile::tempdir().unwrap();
        let mut writer = Writer::open(&dir.path().join("yantro.db")).unwrap();
        let batch = Batch { events: vec![event(1)], runs: vec![row(0)], ..Batch::default() };
        writer.commit(&batch).unwrap();
        assert!(writer.commit(&batch).is_err());
    }

    #[test]
    fn without_room_nothing_lands_and_with_room_again_it_does() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        writer.commit(&Batch { runs: vec![row(0)], ..Batch::default() }).unwrap();
        writer.limit_pages(Some(0)).unwrap();
        let many = Batch { events: (1..400).map(event).collect(), ..Batch::default() };
        let full = writer.commit(&many).unwrap_err();
        assert!(matches!(full, StoreError::Full) && full.is_passing());
        assert_eq!(Reader::open(&path).unwrap().events_of(RunId(1)).unwrap().len(), 0);
        writer.limit_pages(None).unwrap();
        writer.commit(&many).unwrap();
        assert_eq!(Reader::open(&path).unwrap().events_of(RunId(1)).unwrap().len(), 399);
    }

    #[test]
    fn a_line_against_a_service_is_kept_until_it_no_longer_counts() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let address: Address = "quay-1/fares-db".parse().unwrap();
        let against = |line: &str| {
            Some(LogAgainst { line: line.into(), source: "fares.log".into(), missing: false, run: 3, at: Timestamp::from_ms(5) })
        };
        for line in ["FATAL one", "FATAL two"] {
            writer.commit(&Batch { log_against: vec![(address.clone(), against(line))], ..Batch::default() }).unwrap();
        }
        let kept = Reader::open(&path).unwrap().log_against().unwrap();
        assert_eq!(kept, [(address.clone(), against("FATAL two").unwrap())], "the newest counts");
        writer.commit(&Batch { log_against: vec![(address, None)], ..Batch::default() }).unwrap();
        assert!(Reader::open(&path).unwrap().log_against().unwrap().is_empty());
    }

    #[test]
    fn every_session_is_remembered() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        for id in ["b", "a"] {
            writer.commit(&Batch { session: Some((id.into(), Timestamp::from_ms(1))), ..Batch::default() }).unwrap();
        }
        let reader = Reader::open(&path).unwrap();
        assert_eq!(reader.sessions().unwrap(), ["a".to_owned(), "b".to_owned()].into());
        let began = |id: &str, at| Batch { session: Some((id.into(), Timestamp::from_ms(at))), ..Batch::default() };
        writer.commit(&Batch { runs: vec![row(0)], events: vec![event(1), event(2)], ..Batch::default() }).unwrap();
        writer.commit(&began("c", 2)).unwrap();
        writer.commit(&Batch { events: vec![event(3)], ..Batch::default() }).unwrap();
        writer.commit(&began("d", 3)).unwrap();
        let ends = reader.session_ends().unwrap();
        assert_eq!((ends.get("c"), ends.get("d")), (Some(&3), None), "{ends:?}");
    }

    #[test]
    fn what_was_written_down_cannot_be_altered_or_taken_out() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let audit = AuditRow { at: Timestamp::from_ms(1), who: "maren".into(), what: "begin".into(), about: "run 1".into(), why: None };
        writer.commit(&Batch { events: vec![event(1)], runs: vec![row(0)], audit: vec![audit], ..Batch::default() }).unwrap();
        for statement in ["UPDATE event SET body = ''", "DELETE FROM event", "UPDATE audit SET who = 'tove'", "DELETE FROM audit"] {
            let refused = writer.connection.execute_batch(statement).unwrap_err().to_string();
            assert!(refused.contains("never"), "{statement}: {refused}");
        }
    }

    #[test]
    fn the_last_times_of_a_step_are_kept_together() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let ms = Duration::from_millis;
        let took = (0..30).map(|i| ("quay-1/fares-db".to_owned(), StepKind::Start, ms(i))).collect();
        writer.commit(&Batch { took, ..Batch::default() }).unwrap();
        let took = vec![("patch-night: patch".to_owned(), StepKind::Work, ms(7))];
        writer.commit(&Batch { took, ..Batch::default() }).unwrap();
        let times = Reader::open(&path).unwrap().times().unwrap();
        assert_eq!(
            times.iter().map(|(u, k, t)| (u.as_str(), k.as_str(), t.len())).collect::<Vec<_>>(),
            [("patch-night: patch", "work", 1), ("quay-1/fares-db", "start", 25)]
        );
        assert!(times[1].2.contains(&ms(29)) && !times[1].2.contains(&ms(4)), "the newest count");
    }
}
