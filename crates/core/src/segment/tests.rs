//! The logic of trees: Kleene's laws, missing values, references, words.

use super::person::{Answer, Held, Message, Purchase, Value};
use super::words::{Names, sentence};
use super::*;
use crate::goal::{Goal, What};
use crate::id::ContactId;
use crate::{DAY, Instant};
use proptest::prelude::*;
use rstest::rstest;

const NOW: Instant = Instant::of(1_000 * DAY);

/// Visits a year is field 1, member since is field 2, member is field 3.
fn wren() -> Person {
    let mut p = Person::unknown(ContactId(7));
    p.texts.insert(Field::Country, "NO".into());
    p.texts.insert(Field::FamilyName, "Łukasz Ødegård".into());
    p.own.insert(1, Held { value: Value::Number(12.0), dated: Some(990) });
    p.own.insert(2, Held { value: Value::Date(995), dated: None });
    p.own.insert(3, Held { value: Value::YesNo(true), dated: None });
    p.position = Some((58.4, -4.7));
    p.lists.insert(ListId(1));
    p.topics_left.insert(4);
    p.consent = Consent::Consented;
    p.domain = "mail.tern.example".into();
    p.added_at = NOW + -30 * DAY;
    let open = |days: i64, human| Answer { did: Did::Opened, at: NOW + -days * DAY, human, link: None };
    let click = Answer { did: Did::Clicked, at: NOW + -50 * DAY, human: true, link: Some(1) };
    p.messages = vec![
        Message {
            series: Some(SeriesId(4)),
            mailing: MailingId(1),
            accepted_at: Some(NOW + -60 * DAY),
            answers: vec![open(55, true), open(3, true), click],
        },
        Message { series: None, mailing: MailingId(2), accepted_at: Some(NOW + -10 * DAY), answers: vec![open(9, false)] },
    ];
    let buy =
        |days: i64, cents, product: &str| Purchase { at: NOW + -days * DAY, cents, product: product.into(), category: "light".into() };
    p.purchases = vec![buy(40, 9_000, "Storm lantern"), buy(5, 2_000, "Wick"), buy(4, -2_000, "Wick")];
    p.events = vec![(NOW + -400 * DAY, "Came to a talk".into()), (NOW + -20 * DAY, "Came to a talk".into())];
    p
}

fn did(did: Did, human: bool, times: Times, within_days: Option<u32>) -> Tree {
    Tree::Did { did, human, times, within_days, mailing: None, link: None, series: None }
}

fn not(of: Tree) -> Tree {
    Tree::Not { of: Box::new(of) }
}

fn text(field: Field, is: TextTest, value: &str) -> Tree {
    Tree::Text { field, is, value: value.into() }
}

fn bought(what: Bought, is: Compare, value: f64, product: Option<&str>) -> Tree {
    Tree::Bought { what, is, value, product: product.map(Into::into), category: None, within_days: None }
}

#[rstest]
#[case::case_is_no_matter(text(Field::FamilyName, TextTest::Begins, "łuk"), Some(true))]
#[case::contains(text(Field::FamilyName, TextTest::Contains, "ØDE"), Some(true))]
#[case::missing_is_unknown(text(Field::GivenName, TextTest::Is, "wren"), None)]
#[case::so_is_its_opposite(text(Field::GivenName, TextTest::IsNot, "wren"), None)]
#[case::and_its_negation(not(text(Field::GivenName, TextTest::Is, "wren")), None)]
#[case::missing_itself_is_known(Tree::Missing { field: Field::GivenName }, Some(true))]
#[case::twelve_is_not_more_than_twelve(Tree::Number { field: 1, is: Compare::Over, value: 12.0 }, Some(false))]
#[case::nobody_has_field_9(Tree::Number { field: 9, is: Compare::Under, value: 1.0 }, None)]
#[case::another_kind_of_field(Tree::YesNo { field: 1, yes: true }, None)]
#[case::dated_ten_days_ago(Tree::Dated { field: 1, within_days: 11 }, Some(true))]
#[case::dated_too_long_ago(Tree::Dated { field: 1, within_days: 10 }, Some(false))]
#[case::undated(Tree::Dated { field: 2, within_days: 10 }, None)]
#[case::the_last_five_days_end_today(Tree::Date { field: 2, is: DateTest::LastDays(5) }, Some(false))]
#[case::six_days_reach_it(Tree::Date { field: 2, is: DateTest::LastDays(6) }, Some(true))]
#[case::not_to_come(Tree::Date { field: 2, is: DateTest::NextDays(30) }, Some(false))]
#[case::left_topic(Tree::Topic { topic: 4 }, Some(false))]
#[case::whole_domain(Tree::Domain { domain: "tern.example".into(), subdomains: false }, Some(false))]
#[case::subdomain(Tree::Domain { domain: "Tern.example".into(), subdomains: true }, Some(true))]
#[case::never_a_part(Tree::Domain { domain: "ern.example".into(), subdomains: true }, Some(false))]
#[case::near(Tree::Near { latitude: 58.402, longitude: -4.731, km: 3.0, place: String::new(), miles: false }, Some(true))]
#[case::came_twice(Tree::Event { name: " Came to a TALK".into(), times: Times::AtLeast(2), within_days: None }, Some(true))]
#[case::once_this_year(Tree::Event { name: "came to a talk".into(), times: Times::AtLeast(2), within_days: Some(365) }, Some(false))]
#[case::never_stayed(Tree::Event { name: "stayed".into(), times: Times::AtMost(0), within_days: None }, Some(true))]
#[case::first_open_is_old(did(Did::Opened, true, Times::AtLeast(1), Some(7)), Some(true))]
#[case::a_message_counts_once(did(Did::Opened, true, Times::AtLeast(2), None), Some(false))]
#[case::machines_included(did(Did::Opened, false, Times::AtLeast(2), None), Some(true))]
#[case::that_link(Tree::Did { did: Did::Clicked, human: true, times: Times::AtLeast(1), within_days: None, mailing: Some(MailingId(1)), link: Some(1), series: None }, Some(true))]
#[case::another_link(Tree::Did { did: Did::Clicked, human: true, times: Times::AtLeast(1), within_days: None, mailing: Some(MailingId(1)), link: Some(0), series: None }, Some(false))]
#[case::received(Tree::Received { times: Times::AtMost(1), within_days: Some(30) }, Some(true))]
#[case::refunds_are_no_purchases(bought(Bought::Count, Compare::Equal, 1.0, Some("wick")), Some(true))]
#[case::refunds_subtract(bought(Bought::Value, Compare::Equal, 90.0, None), Some(true))]
#[case::lantern_and_no_print(Tree::All { of: vec![bought(Bought::Count, Compare::AtLeast, 1.0, Some("storm lantern")), not(bought(Bought::Count, Compare::AtLeast, 1.0, Some("chart print")))] }, Some(true))]
#[case::thirty_days_are_over(Tree::Added { within_days: 30 }, Some(false))]
#[case::everyone(Tree::All { of: vec![] }, Some(true))]
#[case::nobody(Tree::Any { of: vec![] }, Some(false))]
fn answers(#[case] tree: Tree, #[case] want: Option<bool>) {
    assert_eq!(holds(&tree, &wren(), NOW), want, "{}", sentence(&tree, &Names::default()));
}

/// Opens of a domain whose proxy opens everything are missing, not zero: seen ones still count.
#[rstest]
#[case(Times::AtLeast(1), Some(true))]
#[case(Times::AtLeast(2), None)]
#[case(Times::AtMost(0), Some(false))]
#[case(Times::AtMost(1), None)]
fn open_blind_people_did_not_not_open(#[case] times: Times, #[case] want: Option<bool>) {
    let p = Person { open_blind: true, ..wren() };
    assert_eq!(holds(&did(Did::Opened, true, times, None), &p, NOW), want);
    assert!(holds(&did(Did::Clicked, true, times, None), &p, NOW).is_some(), "clicks can be told apart");
}

/// A leaf that is known yes, known no or unknown for [`wren`].
fn leaf() -> impl Strategy<Value = Tree> {
    prop_oneof![
        Just(Tree::List { list: ListId(1) }),
        Just(Tree::List { list: ListId(2) }),
        Just(text(Field::GivenName, TextTest::Is, "x")),
        Just(Tree::Missing { field: Field::Region }),
    ]
}

fn tree() -> impl Strategy<Value = Tree> {
    leaf().prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(|of| Tree::All { of }),
            prop::collection::vec(inner.clone(), 0..4).prop_map(|of| Tree::Any { of }),
            inner.prop_map(|t| Tree::Not { of: Box::new(t) }),
        ]
    })
}

proptest! {
    #[test]
    fn kleenes_laws(a in tree(), b in tree()) {
        let p = wren();
        let h = |t: &Tree| holds(t, &p, NOW);
        prop_assert_eq!(h(&not(not(a.clone()))), h(&a));
        let both = Tree::All { of: vec![a.clone(), b.clone()] };
        let either = Tree::Any { of: vec![not(a.clone()), not(b.clone())] };
        prop_assert_eq!(h(&not(both)), h(&either), "de Morgan");
        let with_everyone = Tree::All { of: vec![a.clone(), Tree::All { of: vec![] }] };
        prop_assert_eq!(h(&with_everyone), h(&a));
        if let (Some(x), Some(y)) = (h(&a), h(&b)) {
            prop_assert_eq!(h(&Tree::All { of: vec![a, b] }), Some(x && y), "known values follow ordinary logic");
        }
    }

    /// What is stored is what was meant.
    #[test]
    fn json_keeps_a_tree(a in tree()) {
        prop_assert_eq!(serde_json::from_str::<Tree>(&serde_json::to_string(&a).unwrap()).unwrap(), a);
    }

    /// Every line of the explanation stands for one node, and the first is the answer.
    #[test]
    fn an_explanation_is_whole(a in tree()) {
        fn nodes(t: &Tree) -> usize { 1 + t.branches().iter().map(nodes).sum::<usize>() }
        let lines = explain(&a, &wren(), NOW, &Names::default());
        prop_assert_eq!(lines.len(), nodes(&a));
        prop_assert_eq!(lines[0].answer, holds(&a, &wren(), NOW));
    }

    #[test]
    fn shares_are_stable_nested_and_of_their_size(salt in "[a-z]{1,6}", percent in 1.0f64..99.0) {
        let n = 4_000;
        let drawn = |percent: f64, salt: &str| (0..n).filter(|i| holds(&Tree::Share { percent, salt: salt.into() }, &Person::unknown(ContactId(*i)), NOW) == Some(true)).collect::<Vec<_>>();
        let people = drawn(percent, &salt);
        prop_assert_eq!(&people, &drawn(percent, &salt));
        prop_assert!(drawn(percent / 2.0, &salt).iter().all(|p| people.contains(p)), "a smaller share lies inside a larger one");
        // Five standard deviations of a binomial.
        let expected = n as f64 * percent / 100.0;
        prop_assert!((people.len() as f64 - expected).abs() < 5.0 * (expected * (1.0 - percent / 100.0)).sqrt().max(1.0));
    }
}

fn known(segments: &[(SegmentId, &str, Option<Tree>)]) -> HashMap<SegmentId, Known> {
    segments.iter().map(|(id, name, tree)| (*id, Known { name: (*name).into(), tree: tree.clone() })).collect()
}

#[test]
fn references_are_put_in_and_circles_named() {
    let refer = |segment| Tree::Segment { segment };
    let k = known(&[
        (SegmentId(1), "Norway", Some(text(Field::Country, TextTest::Is, "no"))),
        (SegmentId(2), "Readers", Some(Tree::All { of: vec![refer(SegmentId(1)), Tree::List { list: ListId(1) }] })),
        (SegmentId(3), "Board", None),
        (SegmentId(4), "Egg", Some(not(refer(SegmentId(5))))),
        (SegmentId(5), "Hen", Some(refer(SegmentId(4)))),
    ]);
    let talk = Goal { what: What::Event { name: "Came to a talk".into(), cents: 0 }, currency: String::new() };
    let lantern = Goal { what: What::Purchase { product: Some("Storm lantern".into()), category: None }, currency: "GBP".into() };
    let goals = HashMap::from([(7, talk), (9, lantern)]);
    let without = Tree::Converted { goal: 9, times: Times::AtMost(0), within_days: Some(30) };
    assert!(matches!(without.resolve(&k, &goals).unwrap(), Tree::Bought { is: Compare::AtMost, .. }));
    let met = |goal, n| Tree::Converted { goal, times: Times::AtLeast(n), within_days: None };
    assert_eq!(holds(&met(7, 2).resolve(&k, &goals).unwrap(), &wren(), NOW), Some(true));
    assert_eq!(holds(&met(7, 3).resolve(&k, &goals).unwrap(), &wren(), NOW), Some(false));
    assert_eq!(met(8, 1).resolve(&k, &goals), Err(SegmentError::GoalGone));
    let whole = Tree::Any { of: vec![refer(SegmentId(2)), refer(SegmentId(3))] }.resolve(&k, &goals).unwrap();
    assert_eq!(holds(&whole, &wren(), NOW), Some(true));
    assert_eq!(whole.references(), [SegmentId(3)], "written members stay a reference");
    assert_eq!(refer(SegmentId(4)).resolve(&k, &goals), Err(SegmentError::Circle("Egg → Hen → Egg".into())));
    assert_eq!(refer(SegmentId(9)).resolve(&k, &goals), Err(SegmentError::Gone));
    // Twice the same segment side by side is no circle.
    assert!(Tree::All { of: vec![refer(SegmentId(1)), refer(SegmentId(1))] }.resolve(&k, &goals).is_ok());
}

#[test]
fn a_tree_reads_as_a_sentence() {
    let names = Names {
        lists: HashMap::from([(1, "Tide notes readers".into())]),
        fields: HashMap::from([(1, "visits a year".into())]),
        ..Names::default()
    };
    let t = Tree::All {
        of: vec![
            Tree::List { list: ListId(1) },
            Tree::Any { of: vec![text(Field::Country, TextTest::Is, "NO"), Tree::Number { field: 1, is: Compare::Over, value: 12.0 }] },
            not(did(Did::Opened, true, Times::AtLeast(1), Some(90))),
            bought(Bought::Value, Compare::AtLeast, 50.0, Some("Storm lantern")),
            Tree::Tag { tag: 5 },
        ],
    };
    assert_eq!(
        sentence(&t, &names),
        "on the list Tide notes readers and (country is “NO” or visits a year is more than 12) and not opened at least 1 message in the last 90 days \
         and bought Storm lantern for at least 50 and tagged a tag that is gone"
    );
    assert_eq!(sentence(&Tree::All { of: vec![] }, &names), "everyone");
}

#[rstest]
#[case(text(Field::Country, TextTest::Is, " "), "Write the words")]
#[case(Tree::Share { percent: 101.0, salt: String::new() }, "between 0% and 100%")]
#[case(Tree::Domain { domain: "example".into(), subdomains: true }, "whole domain")]
#[case(Tree::Near { latitude: 91.0, longitude: 0.0, km: 1.0, place: String::new(), miles: true }, "place on earth")]
#[case(Tree::Event { name: " ".into(), times: Times::AtLeast(1), within_days: None }, "Choose an event")]
#[case(Tree::Consent { states: vec![] }, "at least one")]
#[case(Tree::Number { field: 1, is: Compare::Over, value: f64::NAN }, "Write a number")]
#[case(Tree::Did { did: Did::Opened, human: true, times: Times::AtLeast(1), within_days: None, mailing: Some(MailingId(1)), link: Some(0), series: None }, "Only a click")]
#[case(Tree::All { of: vec![Tree::List { list: ListId(1) }; 101] }, "100 are the most")]
#[case((0..13).fold(Tree::List { list: ListId(1) }, |t, _| not(t)), "12 is the most")]
fn what_cant_be_meant_is_refused(#[case] tree: Tree, #[case] words: &str) {
    assert!(tree.check().unwrap_err().to_string().contains(words));
}

#[test]
fn dates_are_read_and_written() {
    for (text, day) in [("1970-01-01", 0), ("2026-04-16", 20_559), ("1969-12-31", -1)] {
        assert_eq!((evaluate::parse_date(text), evaluate::date_words(day).as_str()), (Some(day), text));
    }
    assert_eq!(evaluate::parse_date("16/04/2026"), None);
}

#[rstest]
#[case(FieldKind::Number, " 12.5 ", Ok(Value::Number(12.5)))]
#[case(FieldKind::Number, "12,5", Ok(Value::Number(12.5)))]
#[case(FieldKind::Number, "1 200", Ok(Value::Number(1200.0)))]
#[case(FieldKind::Number, "1,200", Err("two numbers"))]
#[case(FieldKind::Number, "inf", Err("not a number"))]
#[case(FieldKind::Date, "2026-04-16", Ok(Value::Date(20_559)))]
#[case(FieldKind::Date, "2026-04-16T08:00:00Z", Ok(Value::Date(20_559)))]
#[case(FieldKind::Date, "16.4.2026", Ok(Value::Date(20_559)))]
#[case(FieldKind::Date, "04/05/2026", Err("write it as 2026-04-16"))]
#[case(FieldKind::Date, "2026-02-30", Err("not a date"))]
#[case(FieldKind::YesNo, "TRUE", Ok(Value::YesNo(true)))]
#[case(FieldKind::YesNo, "perhaps", Err("neither yes nor no"))]
#[case(FieldKind::Choice, " gold ", Ok(Value::Text("gold".into())))]
fn cells_are_read_or_refused_never_guessed(#[case] kind: FieldKind, #[case] cell: &str, #[case] want: Result<Value, &str>) {
    match (Value::read(kind, cell), want) {
        (Ok(got), Ok(want)) => assert_eq!(got, want),
        (Err(got), Err(words)) => assert!(got.contains(words), "{got}"),
        (got, want) => panic!("{cell:?}: {got:?}, not {want:?}"),
    }
}
