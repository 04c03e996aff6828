//! What can hold of one message to one person.

/// A fact about a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[repr(usize)]
pub enum Fact {
    /// Handed over to a host at least once.
    HandedOver,
    /// The host said 2xx.
    Accepted,
    /// Refused for good, given up, or reported as failed afterwards.
    Failed,
    /// It failed by the address's fault, for good.
    Permanent,
    /// It failed for a passing reason of the address or its host.
    Temporary,
    /// It failed because of us: reputation, policy, content, authentication.
    Block,
    /// It went to a domain whose opens can't be told from a machine's.
    OpensUnknown,
    /// An open that no machine rule explains.
    HumanOpen,
    HumanClick,
    Reply,
    /// Left by it, in any way.
    Left,
    LeftTopic,
    LeftSeries,
    Paused,
    Withdrew,
    Complained,
    /// An open, machines' included.
    ReportedOpen,
    ReportedClick,
    /// The first open that isn't a person's is explained by this rule …
    OpenTooSoon,
    OpenByAgent,
    OpenByNetwork,
    OpenByDomain,
    OpenByHead,
    /// … and the first such click by this.
    ClickTooSoon,
    ClickByAgent,
    ClickByNetwork,
    ManyClicks,
    ClickByHead,
}

impl Fact {
    pub const ALL: [Self; 28] = [
        Self::HandedOver,
        Self::Accepted,
        Self::Failed,
        Self::Permanent,
        Self::Temporary,
        Self::Block,
        Self::OpensUnknown,
        Self::HumanOpen,
        Self::HumanClick,
        Self::Reply,
        Self::Left,
        Self::LeftTopic,
        Self::LeftSeries,
        Self::Paused,
        Self::Withdrew,
        Self::Complained,
        Self::ReportedOpen,
        Self::ReportedClick,
        Self::OpenTooSoon,
        Self::OpenByAgent,
        Self::OpenByNetwork,
        Self::OpenByDomain,
        Self::OpenByHead,
        Self::ClickTooSoon,
        Self::ClickByAgent,
        Self::ClickByNetwork,
        Self::ManyClicks,
        Self::ClickByHead,
    ];
}

/// A fact that holds, or that doesn't.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Literal {
    pub fact: Fact,
    pub holds: bool,
}
