//! Messages by what they have in common, as the page, the files and the report on paper tell them: groups with their rates, two groupings
//! crossed, which group is best, what lies outside its norm.

use rinse_core::figure::{Definition, Figure};
use rinse_core::findings::best::{self, Best};
use rinse_core::findings::norm::{self, Norm, Point};
use rinse_core::findings::{By, Clock, OverMailings, in_time, name_of, over_mailings};
use rinse_core::id::MailingId;
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rinse_store::findings::answers;
use rinse_store::findings::groups::{self, Filter, Group, Piece, Sent};
use rinse_store::{Connection, StoreError};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use utoipa::{IntoParams, ToSchema};

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Asked {
    /// Mailings when absent.
    pub(crate) by: Option<By>,
    /// A second grouping, crossed with the first.
    pub(crate) across: Option<By>,
    /// The figure that is drawn, and by which a group is best: human opens when absent.
    pub(crate) figure: Option<Figure>,
    /// Whose clock tells hours and days.
    pub(crate) clock: Option<Clock>,
    /// The figures that stand as columns on the page and on paper, by their keys, as in `accepted,bounced`; files have all.
    pub(crate) columns: Option<String>,
}

/// The figures that a table shows until others are chosen.
const COLUMNS: [Figure; 6] =
    [Figure::Accepted, Figure::Bounced, Figure::HumanOpens, Figure::HumanClicks, Figure::Complaints, Figure::Leaving];

impl Asked {
    pub(crate) fn by(by: By) -> Self {
        Self { by: Some(by), across: None, figure: None, clock: None, columns: None }
    }

    /// The columns, in the catalogue's order.
    pub(crate) fn columns(&self) -> Vec<Definition> {
        let chosen: Vec<Figure> = self.columns.iter().flat_map(|c| c.split(',')).filter_map(Figure::parse).collect();
        let shown = if chosen.is_empty() { &COLUMNS[..] } else { &chosen };
        Figure::ALL.into_iter().filter(|f| f.of().is_some() && shown.contains(f)).map(Figure::definition).collect()
    }
}

/// A group of messages.
#[derive(Serialize, ToSchema)]
#[schema(as = FindingsGroup)]
pub(crate) struct Row {
    pub(crate) key: String,
    pub(crate) name: String,
    /// Mailings that it is made of, and days on which they began.
    pub(crate) mailings: usize,
    pub(crate) days: usize,
    /// The one mailing that it is, where it is one.
    pub(crate) only: Option<String>,
    /// When a mailing began.
    pub(crate) started_at: Option<i64>,
    /// Every figure that can be known of it.
    pub(crate) figures: BTreeMap<Figure, Rate>,
    pub(crate) sent: u64,
    /// The limits of the chosen figure with the mailing as the unit: of six mailings or more.
    pub(crate) over_mailings: Option<OverMailings>,
    /// Whether it is better in the chosen figure than all other groups together; none where that isn't asked.
    pub(crate) best: Option<Best>,
    /// The norm of a mailing's kind in the chosen figure.
    pub(crate) norm: Option<Norm>,
}

impl Row {
    /// A mailing of which nothing has gone out.
    fn nothing(mailing: MailingId, name: String) -> Self {
        Self {
            key: mailing.to_string(),
            name,
            mailings: 1,
            days: 0,
            only: None,
            started_at: None,
            figures: BTreeMap::new(),
            sent: 0,
            over_mailings: None,
            best: None,
            norm: None,
        }
    }
}

/// The chosen figure of two groupings crossed.
#[derive(Serialize, ToSchema)]
#[schema(as = FindingsCell)]
pub(crate) struct Cell {
    pub(crate) row: String,
    pub(crate) column: String,
    pub(crate) mailings: usize,
    pub(crate) rate: Rate,
}

/// A group of the second grouping.
#[derive(Serialize, ToSchema)]
#[schema(as = FindingsColumn)]
pub(crate) struct Column {
    pub(crate) key: String,
    pub(crate) name: String,
    pub(crate) rate: Rate,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct FindingsBy {
    pub(crate) by: By,
    pub(crate) by_words: String,
    pub(crate) across: Option<By>,
    pub(crate) across_words: Option<String>,
    pub(crate) clock: Clock,
    pub(crate) figure: Definition,
    pub(crate) rows: Vec<Row>,
    pub(crate) columns: Vec<Column>,
    pub(crate) cells: Vec<Cell>,
    /// All that is shown together.
    pub(crate) total: Total,
    pub(crate) catalogue: Vec<Definition>,
}

/// What is shown, together.
#[derive(Serialize, ToSchema)]
#[schema(as = FindingsTotal)]
pub(crate) struct Total {
    pub(crate) figures: BTreeMap<Figure, Rate>,
    pub(crate) sent: u64,
    pub(crate) over_mailings: Option<OverMailings>,
    /// Mailings shown, and all there are.
    pub(crate) mailings: usize,
    pub(crate) all_mailings: usize,
    /// The newest mailing, where the filter hides it.
    pub(crate) newest_hidden: Option<String>,
}

fn rates(group: &Group) -> BTreeMap<Figure, Rate> {
    let one = |f: Figure| {
        let sums = group.sums_for(f);
        // Of text messages alone nothing can be known of what only email tells.
        (f.of().is_some() && (!f.definition().email_only || sums.of(Figure::Sent) > 0)).then(|| (f, sums.rate(f)))
    };
    Figure::ALL.into_iter().filter_map(one).collect()
}

fn more_is_better(figure: Figure) -> bool {
    !matches!(
        figure,
        Figure::Bounced
            | Figure::BouncedPermanently
            | Figure::BouncedTemporarily
            | Figure::Blocked
            | Figure::Leaving
            | Figure::LeftTopic
            | Figure::LeftSeries
            | Figure::Paused
            | Figure::Withdrew
            | Figure::Complaints
    )
}

fn over(group: &Group, figure: Figure) -> Option<OverMailings> {
    over_mailings(&group.part(figure).mailings.into_values().collect::<Vec<Arm>>())
}

/// The order of groups: time runs on, mail load from sparse to dense, everything else by how much of it there is.
fn in_order(by: By, groups: &mut [Group]) {
    if by.of_time() || by == By::Load {
        groups.sort_by(|a, b| in_time(&a.key, &b.key));
    } else {
        groups.sort_by_key(|g| std::cmp::Reverse(g.sums_for(Figure::Sent).of(Figure::Sent)));
    }
}

fn name(names: &HashMap<String, String>, by: By, key: &str) -> String {
    names.get(key).cloned().unwrap_or_else(|| name_of(by, key))
}

/// What is asked for.
///
/// # Errors
/// When the database fails.
pub(crate) fn told(c: &Connection, asked: &Asked, filter: &Filter) -> Result<FindingsBy, StoreError> {
    told_among(c, asked, filter, &groups::sent(c)?)
}

/// What is asked for, among all mailings that went out.
fn told_among(c: &Connection, asked: &Asked, filter: &Filter, sent: &[Sent]) -> Result<FindingsBy, StoreError> {
    let (by, clock) = (asked.by.unwrap_or(By::Mailing), asked.clock.unwrap_or_default());
    let across = asked.across.filter(|a| *a != by);
    let figure = asked.figure.filter(|f| f.of().is_some()).unwrap_or(Figure::HumanOpens);
    let pieces = groups::pieces(c, by, None, clock, filter)?;
    let mut found = groups::together(&pieces);
    in_order(by, &mut found);
    let names = groups::names(c, by)?;
    let by_mailing: HashMap<MailingId, &Sent> = sent.iter().map(|s| (s.id, s)).collect();
    // A mailing is no group, and days follow each other: nothing is best among them.
    let compared = !matches!(by, By::Mailing | By::Day | By::Week | By::Month);
    let bests = compared.then(|| best::told(&found.iter().map(|g| g.part(figure)).collect::<Vec<_>>(), more_is_better(figure)));
    let shown: HashSet<MailingId> = found.iter().filter(|_| by == By::Mailing).filter_map(|g| g.key.parse().ok()).collect();
    let norms = norms(sent, figure, &shown);
    let mut rows: Vec<Row> = found
        .iter()
        .enumerate()
        .map(|(i, g)| {
            let mailing = (by == By::Mailing).then(|| g.key.parse::<MailingId>().ok()).flatten();
            Row {
                name: name(&names, by, &g.key),
                key: g.key.clone(),
                mailings: g.mailings(),
                days: g.days(),
                only: g
                    .pieces
                    .first()
                    .filter(|_| by != By::Mailing && g.mailings() == 1)
                    .and_then(|(mailing, ..)| by_mailing.get(mailing))
                    .map(|s| s.name.clone()),
                started_at: mailing.and_then(|m| by_mailing.get(&m)).map(|s| s.started_at),
                figures: rates(g),
                sent: g.sums_for(Figure::Sent).of(Figure::Sent),
                over_mailings: over(g, figure),
                best: bests.as_ref().map(|b| b[i]),
                norm: mailing.and_then(|m| norms.get(&m).copied()),
            }
        })
        .collect();
    if by == By::Mailing {
        rows.sort_by_key(|r| std::cmp::Reverse(r.started_at));
    }
    let mut all = Group::default();
    let mut each: Vec<Piece> =
        if matches!(by, By::Label | By::List | By::Segment) { groups::pieces(c, By::Mailing, None, clock, filter)? } else { pieces };
    each.iter_mut().for_each(|p| p.key = String::new());
    if let Some(together) = groups::together(&each).pop() {
        all = together;
    }
    let shown: BTreeSet<MailingId> = all.pieces.iter().map(|p| p.0).collect();
    let newest = sent.last().filter(|s| !shown.contains(&s.id));
    let (columns, cells) = across.map_or_else(|| Ok((Vec::new(), Vec::new())), |across| crossed(c, by, across, clock, filter, figure))?;
    Ok(FindingsBy {
        by,
        by_words: by.words().into(),
        across,
        across_words: across.map(|a| a.words().into()),
        clock,
        figure: figure.definition(),
        rows,
        columns,
        cells,
        total: Total {
            figures: rates(&all),
            sent: all.sums_for(Figure::Sent).of(Figure::Sent),
            over_mailings: over(&all, figure),
            mailings: sent.iter().filter(|s| shown.contains(&s.id)).count(),
            all_mailings: sent.len(),
            newest_hidden: newest.map(|s| s.name.clone()),
        },
        catalogue: Figure::ALL.map(Figure::definition).to_vec(),
    })
}

/// The mailings of which a figure can be known, as their norms look at them.
fn points(sent: &[Sent], figure: Figure) -> (Vec<MailingId>, Vec<Point>) {
    let point =
        |s: &Sent| Point { at: s.started_at, topic: s.topic, letterhead: s.letterhead, channel: s.channel, arm: s.sums.arm(figure) };
    sent.iter().filter(|s| figure.can_be_known(s.channel)).map(|s| (s.id, point(s))).unzip()
}

/// The norms of these mailings in a figure: each is of all the mailings before it, whatever is shown.
fn norms(sent: &[Sent], figure: Figure, of: &HashSet<MailingId>) -> HashMap<MailingId, Norm> {
    let (ids, points) = points(sent, figure);
    ids.iter().enumerate().filter(|(_, id)| of.contains(id)).filter_map(|(i, id)| Some((*id, norm::of(&points, i)?))).collect()
}

/// How one mailing did, from its first handover on.
#[derive(Serialize, ToSchema)]
pub(crate) struct MailingDid {
    whole: Row,
    /// What its kind usually comes to, figure by figure; nothing of one with fewer than twenty before it.
    norms: BTreeMap<Figure, Norm>,
    /// Delivered messages of the last five days, by UTC: a failure may still be reported.
    too_new: u64,
    domains: Vec<Row>,
    answers: Vec<AnsweredAt>,
    catalogue: Vec<Definition>,
}

/// Answers of one kind by the 24 hours of the day, by the recipients' clocks.
#[derive(Serialize, ToSchema)]
pub(crate) struct AnsweredAt {
    name: &'static str,
    hours: Vec<i64>,
}

/// # Errors
/// When there is no such mailing, or the database fails.
pub(crate) fn one(c: &Connection, mailing: MailingId, now: i64) -> Result<MailingDid, StoreError> {
    let filter = Filter { mailing: Some(mailing), ..Filter::default() };
    let name = rinse_store::mailings::one(c, mailing)?.draft.name;
    let sent = groups::sent(c)?;
    let by = |by: By| told_among(c, &Asked::by(by), &filter, &sent);
    let mut whole = by(By::Mailing)?;
    let norm = |figure: Figure| Some((figure, norms(&sent, figure, &HashSet::from([mailing])).remove(&mailing)?));
    let answers = answers::told(c, Clock::Recipients, &filter)?;
    Ok(MailingDid {
        whole: whole.rows.pop().unwrap_or_else(|| Row::nothing(mailing, name)),
        norms: Figure::ALL.into_iter().filter(|f| f.of().is_some()).filter_map(norm).collect(),
        too_new: rinse_store::findings::too_new(c, mailing, now)?,
        domains: by(By::Domain)?.rows,
        answers: [("opens", answers.opens), ("clicks", answers.clicks), ("replies", answers.replies)]
            .map(|(name, week)| AnsweredAt { name, hours: week.by_hour_of_day() })
            .into(),
        catalogue: whole.catalogue,
    })
}

type Crossed = (Vec<Column>, Vec<Cell>);

fn crossed(c: &Connection, by: By, across: By, clock: Clock, filter: &Filter, figure: Figure) -> Result<Crossed, StoreError> {
    let needed: Vec<Figure> = std::iter::successors(Some(figure), |f| f.of()).collect();
    let pieces = groups::pieces_of(c, (by, Some(across)), clock, filter, &needed)?;
    let names = groups::names(c, across)?;
    let mut columns = groups::together(&groups::pieces_of(c, (across, None), clock, filter, &needed)?);
    in_order(across, &mut columns);
    let columns = columns
        .iter()
        .map(|g| Column { name: name(&names, across, &g.key), key: g.key.clone(), rate: g.sums_for(figure).rate(figure) })
        .collect();
    let mut cells: BTreeMap<(&str, &str), Vec<Piece>> = BTreeMap::new();
    for p in &pieces {
        cells.entry((&p.key, &p.across)).or_default().push(Piece { key: String::new(), ..p.clone() });
    }
    let cell = |((row, column), pieces): ((&str, &str), Vec<Piece>)| {
        let group = groups::together(&pieces).pop().unwrap_or_default();
        Cell { row: row.into(), column: column.into(), mailings: group.mailings(), rate: group.sums_for(figure).rate(figure) }
    };
    Ok((columns, cells.into_iter().map(cell).collect()))
}
