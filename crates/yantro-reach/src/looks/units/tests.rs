use rstest::rstest;

use super::{
    trying::{Says, manager},
    *,
};

/// Nothing is refused for what the manager would overlook, or finds by itself.
#[rstest]
#[case::there_or_not("/opt/ferry/serve", false, Some("/opt/ferry/serve"))]
#[case::overlooked("/opt/ferry/serve", true, None)]
#[case::a_bare_name("serve", false, None)]
fn a_program_is_looked_for_where_it_must_be_there(#[case] path: &str, #[case] is_overlooked: bool, #[case] wanted: Option<&str>) {
    let none = (0u64, 0u64, 0u64, 0u64);
    let one = (path, vec![path], is_overlooked, none.0, none.1, none.2, none.3, 0u32, 0i32, 0i32);
    assert_eq!(program_of(&Value::from(vec![one])).as_deref(), wanted);
    assert_eq!(program_of(&Value::from(Vec::<String>::new())), None);
}

#[test]
fn a_setting_is_said_where_it_is_not_empty() {
    let said = |value: Value<'static>| is_said(&Properties::from([("X".to_owned(), OwnedValue::try_from(value).unwrap())]), "X");
    assert!(said(Value::from("/srv/root")) && said(Value::from(vec!["fares"])));
    assert!(!said(Value::from("")) && !said(Value::from(Vec::<String>::new())) && !is_said(&Properties::new(), "X"));
}

/// A manager that does not say what is in a unit has not said that nothing is (R14).
#[rstest]
#[case::nothing(Says::Pids(vec![]), Ok(vec![]))]
#[case::some(Says::Pids(vec![4711]), Ok(vec![4711]))]
#[case::gone_meanwhile(Says::NoSuchUnit, Ok(vec![]))]
#[case::it_refuses(Says::Refuses, Err("may not be listed"))]
#[case::its_group_is_gone_for_one_that_cannot_list_them(Says::KnowsNot, Ok(vec![]))]
#[tokio::test]
async fn what_is_not_said_of_a_units_processes_is_not_nothing(#[case] says: Says, #[case] wanted: Result<Vec<u32>, &str>) {
    let manager = manager(&[("gate.service", "active", &[], says)]).await;
    let seen = manager.units.look("gate.service").await;
    match wanted {
        Ok(pids) => assert_eq!(seen.unwrap().pids, pids),
        Err(why) => assert!(seen.as_ref().is_err_and(|says| says.contains(why)), "{seen:?}"),
    }
}

/// A manager too old to list them has its control groups all the same.
#[test]
fn where_processes_cannot_be_listed_the_control_group_has_them() {
    let dir = tempfile::tempdir().unwrap();
    let (own, of_all) = (dir.path().join("systemd"), dir.path().join("unified"));
    let in_group = |root: &Path, group: &str, pids: &str| {
        std::fs::create_dir_all(root.join(group)).unwrap();
        std::fs::write(root.join(group).join("cgroup.procs"), pids).unwrap();
    };
    let members = |group: &str| members_of(&[&own, &of_all], group);
    assert!(members("/system.slice/gate.service").is_err_and(|why| why.contains("not where they are looked for")));
    let this = std::process::id();
    in_group(&own, "", "");
    in_group(&own, "system.slice/gate.service", "");
    in_group(&own, "system.slice/gate.service/workers", &format!("{this}\n"));
    assert_eq!(members("/system.slice/gate.service"), Ok(vec![this]), "those below it, too");
    assert_eq!(members("/system.slice/gone.service"), Ok(vec![]));
    assert_eq!(members(""), Ok(vec![]), "what is down has none");
}

/// R13: what would go down with a stop is known, or nothing is stopped.
#[rstest]
#[case::another_unit(Says::Pids(vec![1]), Says::Pids(vec![1]), Ok(None))]
#[case::our_own(Says::Pids(vec![std::process::id()]), Says::Pids(vec![]), Ok(Some("gate.service")))]
#[case::our_own_goes_along(Says::Pids(vec![]), Says::Pids(vec![std::process::id()]), Ok(Some("berth.service")))]
#[case::it_does_not_say_of_the_unit(Says::Refuses, Says::Pids(vec![]), Err("may not be listed"))]
#[case::it_does_not_say_of_what_goes_along(Says::Pids(vec![]), Says::Refuses, Err("may not be listed"))]
#[case::what_goes_along_is_gone(Says::Pids(vec![]), Says::NoSuchUnit, Ok(None))]
#[tokio::test]
async fn what_is_not_said_of_a_unit_is_no_leave_to_stop_it(
    #[case] of_gate: Says,
    #[case] of_berth: Says,
    #[case] wanted: Result<Option<&str>, &str>,
) {
    let manager = manager(&[("gate.service", "active", &["berth.service"], of_gate), ("berth.service", "active", &[], of_berth)]).await;
    let against = manager.units.against("gate.service", true).await;
    match wanted {
        Ok(None) => assert_eq!(against, Ok(None)),
        Ok(Some(unit)) => assert!(against.as_ref().is_ok_and(|a| a.as_ref().is_some_and(|why| why.ends_with(unit))), "{against:?}"),
        Err(why) => assert!(against.as_ref().is_err_and(|says| says.contains(why)), "{against:?}"),
    }
}

/// A manager that does not answer for a unit that would go along has not said that it would not (R38).
#[tokio::test]
async fn what_goes_along_is_known_or_not_said() {
    // Which it does not have at all.
    let without = manager(&[("gate.service", "active", &["berth.service"], Says::Pids(vec![]))]).await;
    let terms = without.units.terms("gate.service").await.unwrap();
    assert!(terms.stops_too.is_empty(), "{terms:?}");
    let silent =
        manager(&[("gate.service", "active", &["berth.service"], Says::Pids(vec![])), ("berth.service", "", &[], Says::Pids(vec![]))])
            .await;
    let terms = silent.units.terms("gate.service").await;
    assert!(terms.as_ref().is_err_and(|says| says.contains("nterface")), "{terms:?}");
}
