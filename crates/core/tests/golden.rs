//! Who is in which arm, what a seal and a link of the ledger come to, and which tokens are ours, held against values that a script
//! outside Rinse worked out (`golden/make.py`): no rewrite may change them.

use rinse_core::chain::{self, Entry};
use rinse_core::id::ContactId;
use rinse_core::segment::share;
use rinse_core::token::{Kind, Signer, hex};
use rinse_core::trial::assign::{self, Enrolled};
use rinse_core::trial::looks::Look;
use rinse_core::trial::sealing;
use serde::de::DeserializeOwned;
use serde_json::Value;

fn golden() -> Value {
    serde_json::from_str(include_str!("golden/golden.json")).unwrap()
}

fn of<T: DeserializeOwned>(v: &Value, name: &str) -> T {
    serde_json::from_value(v[name].clone()).unwrap_or_else(|e| panic!("{name}: {e}"))
}

fn each(name: &str) -> Vec<Value> {
    let cases = of::<Vec<Value>>(&golden(), name);
    assert!(cases.len() > 1, "{name}");
    cases
}

fn placed(v: &Value) -> Vec<assign::Placed> {
    of::<Vec<(ContactId, u32)>>(v, "roster").into_iter().map(assign::Placed::from).collect()
}

#[test]
fn arms() {
    for v in each("assign") {
        let arms: Vec<usize> = assign::assign(of(&v, "seed"), &placed(&v), &of::<Vec<u32>>(&v, "parts")).iter().map(|e| e.arm).collect();
        assert_eq!(arms, of::<Vec<usize>>(&v, "arms"), "{v}");
    }
    for v in each("on_entry") {
        assert_eq!(assign::on_entry(of(&v, "seed"), of(&v, "contact"), &of::<Vec<u32>>(&v, "parts")), of::<usize>(&v, "arm"), "{v}");
    }
}

#[test]
fn who_is_drawn() {
    let roster = placed(&each("assign")[0]);
    for v in each("pilot") {
        let drawn: Vec<ContactId> = assign::draw_pilot(of(&v, "seed"), &roster, of(&v, "size")).iter().map(|p| p.contact).collect();
        assert_eq!(drawn, of::<Vec<ContactId>>(&v, "contacts"), "{v}");
    }
    for v in each("rollout_check") {
        let checked: Vec<ContactId> = (1..400).map(ContactId).filter(|c| assign::in_rollout_check(of(&v, "seed"), *c)).collect();
        assert_eq!(checked, of::<Vec<ContactId>>(&v, "contacts"), "{v}");
    }
    for v in each("second_half") {
        let half: Vec<ContactId> = (1..60).map(ContactId).filter(|c| assign::in_second_half(of(&v, "seed"), *c)).collect();
        assert_eq!(half, of::<Vec<ContactId>>(&v, "contacts"), "{v}");
    }
    for v in each("share") {
        assert_eq!(share::draw(&of::<String>(&v, "salt"), of(&v, "contact")).to_bits(), of::<f64>(&v, "share").to_bits(), "{v}");
    }
}

#[test]
fn seals() {
    let v = golden()["seal"].clone();
    let looks: Vec<Look> =
        of::<Vec<(i64, f64)>>(&v, "looks").into_iter().map(|(at, z_bound)| Look { at, z_bound, information: 0.0 }).collect();
    let roster: Vec<Enrolled> = of::<Vec<(i64, u32, usize)>>(&v, "roster")
        .into_iter()
        .map(|(contact, stratum, arm)| Enrolled { contact: ContactId(contact), stratum, arm, opens_unknown: false })
        .collect();
    let digest =
        sealing::digest(&of::<String>(&v, "plan"), of(&v, "seed"), of(&v, "version"), &looks, &of::<Vec<String>>(&v, "variants"), &roster);
    assert_eq!(digest, of::<String>(&v, "digest"));
    let v = golden()["stretch"].clone();
    let digest = sealing::stretch_digest(&of::<String>(&v, "seal"), of(&v, "place"), of(&v, "began"), &of::<Vec<u32>>(&v, "parts"));
    assert_eq!(digest, of::<String>(&v, "digest"));
}

#[test]
fn the_ledger() {
    let numbers = [Some(1), None, Some(86_400_000), Some(-5), None, Some(3), Some(0)];
    let first = Entry {
        contact: ContactId(42),
        at: 1_776_364_800_000,
        kind: "withdrew",
        source: "unsubscribe page",
        evidence: "…",
        entity: "Lantern Shop Ltd",
        numbers,
    };
    let second =
        Entry { contact: ContactId(43), at: -1, kind: "consented", source: "import", evidence: "", entity: "", numbers: [None; 7] };
    let digests = [chain::digest(b"\x01\x02salt", &first), chain::digest(b"", &second)];
    let one = chain::link(None, &digests[0]);
    let links = [one, chain::link(Some(&one), &digests[1])];
    let v = golden()["ledger"].clone();
    assert_eq!(digests.map(|d| hex(&d)), of::<[String; 2]>(&v, "digests"));
    assert_eq!(links.map(|l| hex(&l)), of::<[String; 2]>(&v, "links"));
}

#[test]
fn tokens() {
    let signer = Signer::new(&(0..32).collect::<Vec<u8>>());
    let kind = |v: &Value| match of::<u8>(v, "kind") {
        1 => Kind::Open,
        2 => Kind::Click,
        3 => Kind::Unsubscribe,
        4 => Kind::Return,
        5 => Kind::Reply,
        9 => Kind::Share,
        other => panic!("{other}"),
    };
    for v in each("links") {
        assert_eq!(signer.link(kind(&v), of(&v, "send"), of(&v, "number")), of::<String>(&v, "token"), "{v}");
    }
    for v in each("mailboxes") {
        assert_eq!(signer.mailbox(kind(&v), of(&v, "send")), of::<String>(&v, "token"), "{v}");
    }
    let v = golden()["tombstone"].clone();
    assert_eq!(hex(&signer.tombstone(&of::<String>(&v, "address"))), of::<String>(&v, "hash"));
}
