"""What the service says, typed. Unknown members are kept, so that an older client understands a newer service."""

from datetime import datetime
from typing import Annotated, Any, TypeVar
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field

OVER = ("succeeded", "failed", "cancelled", "set aside")


T = TypeVar("T")


class Page(list[T]):
    """A part of a list; `next` is what the part behind it begins `after`, None at the end."""

    next: str | None = None


class Result(BaseModel):
    model_config = ConfigDict(extra="allow", populate_by_name=True, defer_build=True)  # most programs use a few of them


class Error(Result):
    """What went wrong: a `kind` of the closed set, what was attempted, and what to do; `step` is where."""

    kind: str
    message: str
    fix: str = ""
    reached: str = ""
    step: str = ""


class Finding(Result):
    line: int
    column: int
    message: str
    fix: str
    severity: str


class Line(Result):
    number: str
    depth: int
    step: str
    kind: str
    sentence: str
    trace: str


class Checked(Result):
    workflow: str | None
    sound: bool
    findings: list[Finding]
    script: list[Line]
    starters: list[str]


class Workflow(Result):
    name: str
    title: str
    starters: list[str]
    on_version: int | None
    latest_version: int
    runs: int
    mended: int
    success: float | None
    seconds: float | None
    money: float | None
    last_state: str | None


class Version(Result):
    number: int
    on: bool
    author: str
    remark: str = ""
    created_at: datetime
    good: int = 0
    bad: int = 0


class FieldChange(Result):
    """A value that differs, as it reads, shortened; None where it is not there."""

    name: str
    before: str | None
    after: str | None


class Difference(Result):
    """A step, or what stands around the steps, that differs: `added`, `removed`, `changed`, `moved` or `renamed`. `number` and
    `sentence` are those of the script; `before` is what a renamed step was called."""

    what: str
    number: str
    sentence: str
    step: str
    fields: list[FieldChange]
    before: str


class Compared(Result):
    """What differs, and how many differences more there are than are told."""

    differences: list[Difference]
    more: int


class WorkflowText(Result):
    workflow: Workflow
    version: int
    text: str
    checked: Checked
    versions: list[Version] = []
    settings: dict[str, Any] = {}
    settings_tag: str = ""


class Saved(Result):
    workflow: str
    version: int
    new: bool
    findings: list[Finding]


class Renamed(Result):
    """A workflow under its other name; `referring` are workflows that still name it as it was called."""

    workflow: str
    version: int
    referring: list[str]


class RunData(Result):
    """A run. `seconds` from start to end; `money` in the workspace's currency."""

    id: UUID
    workflow: str
    version: int
    state: str
    subject: str | None
    trigger: str
    error: Error | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    seconds: float | None
    steps: int
    attempts: int
    tokens_in: int
    tokens_out: int
    money: float
    unpriced: int
    note: str
    mended_by: UUID | None
    kind: str
    parent_id: UUID | None
    origin_id: UUID | None
    origin_how: str | None
    depth: int = 0

    @property
    def over(self) -> bool:
        """Whether it has ended."""
        return self.state in OVER


class Attempt(Result):
    number: int
    state: str
    started: datetime | None
    ended: datetime | None
    error: Error | None
    again_at: str | None
    note: str
    detail: dict[str, object] | None


class Large(Result):
    """A payload of which only a preview is told: the `body` or `detail` of an entry."""

    of: str
    id: str
    bytes: int


class Span(Result):
    path: str
    line: str
    kind: str
    state: str
    started: datetime | None
    ended: datetime | None
    attempts: list[Attempt]
    input: Any
    output: Any
    error: Error | None
    runs: list[UUID]
    note: str
    empty: list[str]
    tokens: int
    money: float
    unpriced: int
    large: list[Large]


class Trace(Result):
    run: RunData
    script: list[Line]
    spans: list[Span]
    next: int | None


class Hour(Result):
    """Runs that began within a step of time, by how they ended; `open`: not yet."""

    at: datetime
    succeeded: int
    failed: int
    cancelled: int
    open: int


class Cause(Result):
    """What made runs fail that no later run mended; `run` is the latest of them."""

    workflow: str
    kind: str
    step: str
    count: int
    run: UUID
    at: datetime
    message: str


class Overview(Result):
    """How runs went of late, in steps of so many hours."""

    step: int
    hours: list[Hour]
    causes: list[Cause]
    waiting: int


class Counts(Result):
    """What waits for a person."""

    questions: int
    connections: int


class OtherAlias(Result):
    alias: str
    money: float


class Asked(Result):
    """A line that asks a model: what it costs in a run, and what cheaper ones would take for it."""

    step: str
    number: str
    sentence: str
    alias: str
    money: float | None
    others: list[OtherAlias]


class Starts(Result):
    """How often a start comes in 30 days; `measured` of the last week where no calendar tells."""

    trigger: str
    sentence: str
    a_month: float | None
    next: list[datetime]
    measured: bool


class Drain(Result):
    """How long the credit of an account lasts."""

    credential: str
    left: float
    lasts: datetime | None


class Price(Result):
    """What a workflow will cost: a run (the mean of so many `runs`, or of tries), and 30 days."""

    a_run: float | None
    unpriced: int
    runs: int
    asks: list[Asked]
    starts: list[Starts]
    a_month: float | None
    drains: list[Drain]


class BriefError(Result):
    kind: str
    message: str


class BriefAttempt(Result):
    number: int
    state: str
    started: datetime | None
    ended: datetime | None
    error: BriefError | None
    again_at: str | None
    note: str


class Brief(Result):
    """What happened under one path, without what was given, asked and answered."""

    path: str
    line: str
    kind: str
    state: str
    started: datetime | None
    ended: datetime | None
    attempts: list[BriefAttempt]
    tried: int
    error: BriefError | None
    way: int | None
    until: str | None
    note: str
    tokens: int
    money: float
    unpriced: int
    given: str
    gave: str


class Loop(Result):
    """How far a list or loop is; `all` is None for a loop, `chosen` the item that is told."""

    path: str
    kind: str
    all: int | None
    ended: int
    failed: int
    chosen: int


class View(Result):
    """A run as it is looked at: every line once, of lists and loops one item."""

    run: RunData
    script: list[Line]
    spans: list[Brief]
    loops: list[Loop]


class Record(Result):
    """What is recorded of one place, with what lies in it; `cut`: how many earlier ones are not told."""

    span: Span
    inner: list[Span]
    cut: int


class Item(Result):
    """An item of a list or a round of a loop; `label`: what it was, in brief."""

    index: int
    path: str
    state: str
    label: str
    at: datetime | None
    tokens: int
    money: float
    unpriced: int


class RunDetail(Result):
    run: RunData
    result: Any
    answer: Any
    event: dict[str, object]
    why: str
    children: list[RunData]
    again: list[RunData]
    workers: list[str]
    questions: int


class Entry(Result):
    """An entry of the journal of a run."""

    seq: int
    path: str
    kind: str
    attempt: int
    body: Any
    detail: Any
    started: datetime | None
    at: datetime | None
    worker: UUID | None


class Received(Result):
    """An event as it came, and the run that it began."""

    id: UUID
    key: str
    type: str
    source: str
    at: datetime
    data: Any
    headers: dict[str, str]
    query: dict[str, str]
    run_id: UUID
    workflow: str
    trigger: str


class CredentialConfig(Result):
    hosts: list[str] = []


class Connection(Result):
    """What an OAuth app was let do: `state` is none, ready or reconnect; `lacking` scopes it was not given."""

    state: str
    account: str = ""
    scopes: list[str] = []
    lacking: list[str] = []
    why: str = ""
    since: datetime | None = None
    expires_at: datetime | None = None
    by: str = ""


class Credential(Result):
    name: str
    kind: str
    places: list[str] = []
    config: CredentialConfig
    about: str = ""
    secrets: list[str] = []
    connection: Connection | None = None
    last_test: dict[str, object] | None
    last_used_at: datetime | None
    last_worked_at: datetime | None
    tag: str


class ConsentBegun(Result):
    """Where to consent, and until when; `redirect` must be registered with the provider."""

    url: str
    redirect: str
    scopes: list[str]
    until: datetime


class Consented(Result):
    credential: Credential
    waiting: int
    sentence: str


class Provider(Result):
    """What is known of an OAuth app's provider; empty where it is not."""

    redirect: str
    issuer: str = ""
    authorize_url: str = ""
    token_url: str = ""
    revoke_url: str = ""
    account_url: str = ""
    client_id: str = ""
    way: str = "basic"
    named_issuer: bool = False
    scopes: list[str] = []
    registered: bool | None = None


class Broken(Result):
    """A credential that needs reconnecting, and how many runs wait for it."""

    credential: str
    why: str
    since: datetime
    by: str
    account: str
    waiting: int


class Caller(Result):
    """Who is asking, by a session or a token."""

    name: str
    by: str


class Connector(Result):
    """A package of actions, kinds of credentials and triggers; `fault` says why it cannot be used."""

    name: str
    title: str
    package: str
    version: str
    address: str = ""
    fault: str
    actions: list[str]


class CredentialKind(Result):
    """A kind of credential; `input` is the JSON Schema of its fields, `sent` whether it goes with requests."""

    name: str
    title: str
    sent: bool
    input: dict[str, Any]


class TriggerKind(Result):
    """A kind of trigger; `input` is the JSON Schema of its fields, `way` how its occasions come."""

    name: str
    way: str
    input: dict[str, Any]


class Example(Result):
    """A workflow to begin with; `needs_model` while it asks a model and there is none."""

    name: str
    title: str
    note: str
    text: str
    needs_model: bool


class Credit(Result):
    """What an account held when it was noted, what is left of it, and when that ends at the present pace."""

    credential: str
    money: float
    spent: float
    left: float
    a_day: float
    lasts: datetime | None
    unpriced: int
    state: str
    noted_at: datetime


class Ready(Result):
    """How many runs waited for a credential or for credit of its account."""

    waiting: int


class Test(Result):
    ok: bool
    tried: bool = True
    sentence: str
    fix: str
    exchange: dict[str, object] | None
    messages: object = None
    account: str = ""
    may: list[str] = []
    offered: list[str]
    reply: str


class Prices(Result):
    """Money per million tokens."""

    input: float
    output: float
    cached: float | None = None


class Can(Result):
    """What a model server can do; None of what nobody knows yet. `answers`: schema, object or text."""

    answers: str | None = None
    tools: bool | None = None
    parallel: bool | None = None
    stream: bool | None = None
    usage: bool | None = None


class AliasConfig(Result):
    can: Can = Can()
    url: str
    model: str
    credential: str | None = None
    prices: Prices | None = None


class Alias(Result):
    name: str
    config: AliasConfig
    tag: str


class ServerConfig(Result):
    url: str | None = None
    credential: str | None = None
    command: list[str] | None = None


class Server(Result):
    """A tool server."""

    name: str
    config: ServerConfig
    tag: str


class ServerTool(Result):
    """A tool that a server offers; `input` is the JSON Schema of its arguments, `wrong` why agents are not offered it."""

    name: str
    title: str
    description: str
    input: dict[str, object]
    safe: bool
    wrong: str


class ServerTest(Result):
    ok: bool
    sentence: str
    fix: str
    tools: list[ServerTool]


class Conversation(Result):
    key: str
    messages: int
    channel: str
    person: str
    summary: str
    facts: dict[str, str]
    question: UUID | None = None
    handed_over: bool = False
    updated_at: datetime


class Message(Result):
    """Something said in a conversation; `message` as the chat-completions protocol has it. `state` of what leaves by a channel:
    waiting, sent, refused, unknown; `why` it is not sent; `by` the person who said it in the place of the workflow."""

    seq: int
    role: str
    message: dict[str, Any]
    run_id: UUID | None
    at: datetime
    state: str | None
    why: str
    good: bool | None
    by: str
    buttons: list[str]
    parts: list[dict[str, Any]]
    unkept: list[dict[str, str]] = []


class OfferedTool(Result):
    """A tool as a model is offered it."""

    name: str
    description: str
    parameters: dict[str, Any]


class Cost(Result):
    """What one request to a model is likely to use: tokens of what is asked, of the longest answer, and the money of both; None
    when the model's price is not known."""

    model: str
    tokens: int
    longest: int
    money: float | None


class Rendered(Result):
    """What a step would send: its `input`, of models also their `messages` and what they are offered; `empty` are the
    expressions that came out empty."""

    step: str
    action: str
    input: Any
    empty: list[str]
    messages: list[dict[str, object]] | None = None
    tools: list[OfferedTool] = []
    cost: Cost | None = None


class Source(Result):
    """Where something was found."""

    url: str
    title: str


class Channel(Result):
    """A channel of a connector; `input` is the JSON Schema of what stands under `with`."""

    name: str
    input: dict[str, Any]


class CameIn(Result):
    """A message as a channel reads it in something that was sent; `files` what each is and what the channel calls it, `unread` what
    kind of message cannot be read."""

    id: str
    chat: str
    person: str
    name: str
    language: str
    text: str
    choice: str | None
    files: list[str]
    at: datetime | None
    unread: str


class ChannelRead(Result):
    """What a channel reads in a delivery."""

    messages: list[CameIn]


class ChannelSent(Result):
    """How sending by a channel went; `id` and `at` as the channel tells them."""

    ok: bool
    sentence: str
    fix: str
    id: str
    at: datetime | None


class PhraseFound(Result):
    """What a phrase finds in a conversation: a choice, whether it is clear without a model, and how like each one it is (-1 to 1)."""

    text: str
    choice: str | None
    sure: bool
    likeness: dict[str, float]


class PhrasesFound(Result):
    """What each of some phrases finds, in their order."""

    found: list[PhraseFound]


class Talked(Result):
    """What an agent of a draft answered; `messages` go along with what is said next."""

    text: str
    data: Any
    sources: list[Source] = []
    why: str
    error: Error | None
    waits: str | None
    tokens: int
    money: float | None
    messages: list[dict[str, object]]
    spans: list[Span]


class Missing(Result):
    """An event that was answered and that a restored database does not hold any more."""

    run: UUID
    workflow: str
    source: str
    event_key: str
    answered_at: datetime


class Restore(Result):
    """What a restore of the database has left: runs that are held, and events that are missing."""

    held: int
    count: int
    missing: list[Missing]
    next: UUID | None


class Usage(Result):
    """Sums of what models were asked; `money` in the workspace's currency."""

    day: str | None
    workflow: str | None
    alias: str | None
    credential: str | None
    source: str | None
    calls: int
    input: int
    cached: int
    output: int
    money: float
    unpriced: int


class Budget(Result):
    name: str
    workflow: str
    period: str
    money: float
    warn_at: float
    state: str
    spent: float
    tag: str


class File(Result):
    """A file that is kept by the service; `value` is what is given to a workflow."""

    file: UUID
    name: str
    type: str
    size: int
    created_at: datetime

    @property
    def value(self) -> dict[str, object]:
        """The file as a value of a workflow."""
        return {"file": str(self.file), "name": self.name, "type": self.type, "size": self.size}


class HeldByRow(Result):
    table: str
    row: UUID


class HeldBySample(Result):
    workflow: str
    sample: str


class FileDetail(File):
    """A file with its SHA-256, and what holds it: the latest runs, rows, samples."""

    digest: str
    runs: list[UUID]
    rows: list[HeldByRow] = []
    samples: list[HeldBySample] = []


class FileAddress(Result):
    """An address at which a file is read without signing in, until it is over."""

    url: str
    until: datetime


class Table(Result):
    name: str
    columns: list[dict[str, str]]
    rows: int
    link: dict[str, object] | None = None


class Row(Result):
    id: Annotated[UUID | str, Field(union_mode="left_to_right")]
    row: dict[str, object]
    tag: str


class Token(Result):
    id: UUID
    name: str
    created_at: datetime
    expires_at: datetime | None
    last_used_at: datetime | None
    rights: list[str] | None
    workflows: list[str] | None
    secret: str | None


class Setting(Result):
    """Something that can be set of the service; `own` where it is not left as it comes."""

    name: str
    value: str
    about: str
    own: bool


class Session(Result):
    id: UUID
    created_at: datetime
    expires_at: datetime | None
    last_used_at: datetime | None
    address: str
    agent: str
    this: bool


class Action(Result):
    name: str
    title: str
    repeat: str
    input: dict[str, object]
    output: dict[str, object]


class CurlStep(Result):
    """A curl command as a step: `fields` stand under `with`, and `credential` was stored of what proves who asks."""

    do: str
    name: str
    fields: dict[str, object]
    credential: str | None
    notes: list[str]


class OfferedOperation(Result):
    """An operation of a description; `key` is its method and path, `fault` why it cannot be taken."""

    key: str
    name: str
    title: str
    group: str
    repeat: str
    fields: list[str]
    credentials: list[str]
    pages: bool
    fault: str


class Operation(Result):
    """What an operation of a description has become."""

    key: str
    action: Action
    about: str
    group: str
    sent_as: list[str]
    pages: bool
    gives: str
    notes: list[str]


class Description(Result):
    """What a description offers, and the operations that were asked for."""

    title: str
    name: str
    version: str
    about: str
    source: str
    addresses: list[str]
    offered: list[OfferedOperation]
    operations: list[Operation]
    notes: list[str]


class ConnectorVersion(Result):
    number: int
    author: str
    version: str
    created_at: datetime


class WorkflowUse(Result):
    name: str
    on: bool


class ConnectorDetail(Result):
    """A connector that was read from a description; `number` is its version that is used."""

    name: str
    title: str
    address: str
    source: str
    version: str
    number: int
    operations: list[Operation]
    versions: list[ConnectorVersion]
    workflows: list[WorkflowUse]
    updated_at: datetime


class OperationChange(Result):
    """What is another of an operation in a newer description, in sentences; `gone` where it is there no more."""

    key: str
    name: str
    gone: bool
    what: list[str]
    workflows: list[WorkflowUse]


class ConnectorCompared(Result):
    version: str
    changed: list[OperationChange]
    offered: list[OfferedOperation]


class ActionTried(Result):
    """How it went to carry out an action by hand."""

    ok: bool
    sentence: str
    kind: str
    fix: str
    output: Any
    exchange: dict[str, Any] | None


class Question(Result):
    """Something that waits for a person."""

    id: UUID
    run_id: UUID | None
    workflow: str
    path: str
    subject: str | None
    text: str
    choices: list[str] | None
    form: dict[str, Any] | None
    input: Any
    state: str
    alike: int
    link: str | None
    conversation: str | None
    handed_over: bool
    created_at: datetime
    expires_at: datetime | None
    answered_by: str | None
    answer: Any


class Schedule(Result):
    """A trigger in time with its next occurrences."""

    workflow: str
    trigger: str
    kind: str
    words: str
    rule: str
    zone: str
    paused: bool
    next_at: datetime | None
    last_at: datetime | None
    fault: str | None
    occurrences: list[datetime]


class ImportedColumn(Result):
    head: str
    name: str
    type: str
    seen: list[str]


class ImportFault(Result):
    line: int
    message: str


class Imported(Result):
    """What an import did, or would do; `faults` are lines that do not fit."""

    columns: list[ImportedColumn]
    rows: int
    added: int
    updated: int
    faults: list[ImportFault]
    created: bool
    sheets: list[str] = []


class OfferedModel(Result):
    id: str
    purpose: str
    context: int | None
    read: float | None
    written: float | None


class ModelServer(Result):
    url: str
    keyed: bool
    models: list[OfferedModel]


class Connected(Result):
    """A model that was connected, the credential that its key became, and how it answered."""

    alias: Alias
    credential: str | None
    test: Test


class Kept(Result):
    """What doing a run again keeps of it and does anew; `run` once it is started."""

    run: UUID | None
    from_: str = Field(alias="from")
    step: str
    version: int
    kept: list[str]
    anew: list[str]


class ManyDone(Result):
    """What was done to many runs at once: to how many, and why not to others."""

    done: int
    refused: dict[UUID, str]


class Fired(Result):
    """The run of an occurrence that was made; none of a poll, which looks by itself."""

    run: UUID | None
    note: str


class Tried(Result):
    """How a try went; `waits` is the step it would rest at."""

    state: str
    result: Any
    error: Error | None
    waits: str | None
    spans: list[Span]


class Event(Result):
    """An event as documents see it by the name `event`."""

    id: str
    source: str
    type: str
    time: str
    data: Any
    headers: dict[str, Any]
    query: dict[str, Any]


class Sample(Result):
    """A kept event, or result of a step; of an event `value` is the input that was made of it."""

    id: UUID
    step: str
    name: str
    value: Any
    trigger: str
    event: Event | None
    created_at: datetime


class Refusal(Result):
    """A delivery that was not taken: from which address and program, and why."""

    path: str
    status: int
    reason: str
    source: str
    agent: str
    at: datetime


class Awaited(Result):
    """The next event of a trigger is kept as a sample of that name, if it comes in time."""

    trigger: str
    sample: str
    until: datetime


class Trigger(Result):
    """A trigger of the newest version; whoever knows `draft_url` starts runs of it by sending events there, and `request` is one
    as a command for a shell."""

    trigger: str
    kind: str
    sentence: str
    page: str = ""
    draft_page: str = ""
    draft_url: str
    request: str
    awaited: Awaited | None


class CredentialUse(Result):
    """What uses a credential; `would_stop` whether something that is on would, without it."""

    workflows: list[WorkflowUse]
    models: list[str]
    servers: list[str]
    credentials: list[str]
    runs: list[RunData]
    waiting: int
    would_stop: bool
    sentence: str
