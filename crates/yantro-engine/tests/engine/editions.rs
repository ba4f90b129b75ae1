//! Estates and procedures as editions: what is loaded, edited, refused and told apart.

use rstest::rstest;
use yantro_engine::{DraftRequest, EditRequest, EngineError};

use crate::world::{ESTATE, World};

#[tokio::test]
async fn an_edition_says_what_it_changes() {
    let world = World::bare().await;
    let first = world.load(ESTATE).await.unwrap();
    assert_eq!((first.edition, first.changed, first.added.len(), first.removed.len()), (1, true, 4, 0));
    let same = world.load(ESTATE).await.unwrap();
    assert_eq!((same.edition, same.changed), (1, false), "what says the same is no edition");
    let other = ESTATE.replace("[service.boards]", "[service.signs]").replace("[\"boards\"]", "[\"signs\"]");
    let other = other.replace("[service.bookings]\n", "[service.bookings]\nsteady = \"2s\"\n");
    let second = world.load(&other).await.unwrap();
    let names = |all: &[yantro_core::words::name::Address]| all.iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!((second.edition, second.changed), (2, true));
    assert_eq!((names(&second.added), names(&second.removed)), (vec!["quay-2/signs".to_owned()], vec!["quay-2/boards".to_owned()]));
    assert_eq!(names(&second.altered), ["quay-2/bookings"]);
    assert_eq!(second.procedures.iter().map(ToString::to_string).collect::<Vec<_>>(), ["dawn"]);
    let editions = world.engine.editions(10).unwrap();
    assert_eq!(editions.iter().map(|e| (e.edition, e.who.as_str())).collect::<Vec<_>>(), [(2, "maren"), (1, "maren")]);
    assert_eq!(world.engine.text_of(1).unwrap(), ESTATE);
    assert!(matches!(world.engine.text_of(9), Err(EngineError::NoEdition(9))));
}

/// What has faults is refused whole, with each fault in its line; the newest edition stays.
#[rstest]
#[case::no_toml("[estate", "TOML")]
#[case::no_such_service("[service.x]\nlike = \"played\"\nhost = \"quay-1\"\nrelies_on = [\"gangway\"]\n", "gangway")]
#[case::no_such_host("[service.x]\nlike = \"played\"\nhost = \"quay-9\"\n", "quay-9")]
#[tokio::test]
async fn an_estate_with_faults_changes_nothing(#[case] more: &str, #[case] says: &str) {
    let world = World::begun().await;
    let refused = world.load(&format!("{ESTATE}{more}")).await.unwrap_err();
    let EngineError::Faults(faults) = &refused else { panic!("{refused}") };
    assert!(faults.iter().any(|f| f.message.contains(says) && f.line > 0), "{faults:?}");
    assert_eq!(world.engine.loaded().unwrap().edition, 1);
}

/// A procedure is edited as text: tried first, kept with who and why, and not over what another did meanwhile.
#[tokio::test]
async fn a_procedure_is_edited_and_told_apart() {
    let world = World::begun().await;
    let dawn = "dawn".parse().unwrap();
    let draft = world.engine.draft(&dawn, &DraftRequest::default()).unwrap();
    assert!(draft.good && draft.says.len() == 2, "{:?}", draft.faults);
    let text = draft.text.replace("Dawn round", "First round");
    let tried = world.engine.draft(&dawn, &DraftRequest { text: Some(text.clone()), ..DraftRequest::default() }).unwrap();
    assert!(tried.good && tried.forecast.is_some());
    assert_eq!(world.engine.loaded().unwrap().edition, 1, "to try is not to keep");
    let edit = |text: &str, edition: u64| EditRequest { text: Some(text.to_owned()), edition: Some(edition), why: "another name".into() };
    let kept = world.engine.edit(&dawn, edit(&text, 1), "tove").await.unwrap();
    assert_eq!((kept.edition, kept.changed), (2, true));
    let again = world.engine.edit(&dawn, edit(&draft.text, 1), "maren").await.unwrap_err();
    assert!(matches!(again, EngineError::EditedMeanwhile { ref who, edition: 2, .. } if who == "tove"), "{again}");
    // A file that lacks what was edited here would undo it.
    let undone = world.load(&ESTATE.replace("Brannock Sound, played", "Brannock Sound")).await.unwrap_err();
    assert!(matches!(undone, EngineError::WouldUndo(ref lost) if lost == &["dawn"]), "{undone}");
}

#[rstest]
#[case::a_service_that_is_not_there("steps = [{ restart = [\"gangway\"] }]", "gangway")]
#[case::nothing_to_do("steps = []", "step")]
#[tokio::test]
async fn a_draft_that_could_not_be_kept_says_why(#[case] steps: &str, #[case] says: &str) {
    let world = World::begun().await;
    let text = format!("[procedure.dawn]\ntitle = \"Dawn round\"\n{steps}\n");
    let draft =
        world.engine.draft(&"dawn".parse().unwrap(), &DraftRequest { text: Some(text.clone()), ..DraftRequest::default() }).unwrap();
    assert!(!draft.good && draft.faults.iter().any(|f| f.message.contains(says)), "{:?}", draft.faults);
    let request = EditRequest { text: Some(text), edition: None, why: "to see".into() };
    assert!(world.engine.edit(&"dawn".parse().unwrap(), request, "maren").await.is_err());
    assert_eq!(world.engine.loaded().unwrap().edition, 1);
}

#[tokio::test]
async fn one_server_has_a_data_folder() {
    let world = World::bare().await;
    let refused = world.another().await.err().unwrap();
    assert!(matches!(refused, EngineError::Taken(_)) && refused.to_string().contains("another server"), "{refused}");
}
