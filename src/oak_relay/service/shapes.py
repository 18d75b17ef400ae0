"""The shapes of what the API says and takes; the client and the console are typed by them."""

import re
from datetime import date, datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from oak_relay.messages import Message
from oak_relay.usage import Usage

_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_MOMENT = re.compile(_DAY.pattern + r"[Tt ]\d\d:\d\d(:\d\d(\.\d{1,9})?)?([Zz]|[+-]\d\d:\d\d)")


def _moment(given: object) -> object:
    if isinstance(given, str) and not _MOMENT.fullmatch(given):
        raise ValueError("this is no moment with its offset, as 2031-04-01T08:00:00Z (RFC 3339)")
    return given


def _day(given: object) -> object:
    if isinstance(given, str) and not _DAY.fullmatch(given):
        raise ValueError("this is no day, as 2031-04-01 (RFC 3339)")
    return given


def _kept(given: datetime) -> datetime:
    if not 1970 <= given.year <= 9000:
        raise ValueError("nothing is kept of a moment before 1970 or after 9000")
    return given


Moment = Annotated[datetime, BeforeValidator(_moment), AfterValidator(_kept)]
Day = Annotated[date, BeforeValidator(_day)]


class In(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class ErrorOut(BaseModel):
    """What went wrong: a `kind` of the closed set, what was attempted, and what to do."""

    kind: str
    message: str
    fix: str = ""
    reached: str = ""
    delay: float | None = None
    step: str = Field("", description="The path of the step that failed.")
    limit: str = Field("", description="The path of the step whose limit was reached.")
    waits_for: str = Field("", description="The credential without which, or without whose credit, it cannot succeed.")


class FindingOut(BaseModel):
    line: int
    column: int
    message: str
    fix: str
    severity: str
    path: str


class LineOut(BaseModel):
    """One sentence of a script (see `document.script.Line`)."""

    number: str
    depth: int
    step: str
    kind: str
    sentence: str
    path: str
    trace: str
    note: str


class HookOut(BaseModel):
    """A webhook: its address; `request` is one that a sender would make, as a command for a shell; `outside` whether others
    than this machine may reach it."""

    trigger: str
    path: str
    url: str
    methods: list[str]
    waits: bool
    request: str
    outside: bool


class CheckedOut(BaseModel):
    workflow: str | None
    title: str
    sound: bool
    findings: list[FindingOut]
    script: list[LineOut]
    starters: list[str]
    hooks: list[HookOut] = Field(description="Its webhooks.")
    agents: list[str] = Field(description="Steps that are agents: with these one can talk.")
    sample: object = Field(None, description="Input made from its schema.")


class WorkflowOut(BaseModel):
    """A workflow and how its last 200 runs went; `success` is a share, `seconds` the median."""

    name: str
    kind: Literal["workflow", "agent"] = Field(description="An agent is one that others use as a tool.")
    title: str
    labels: list[str]
    starters: list[str]
    on_version: int | None = Field(description="The version that its triggers start; null while it is off.")
    latest_version: int = Field(description="The newest version; a draft where it is not the one that is on.")
    runs: int
    mended: int = Field(description="How many of those that failed another run mended.")
    success: float | None
    seconds: float | None
    money: float | None
    last_state: str | None
    last_at: datetime | None
    updated_at: datetime


class RenamedOut(BaseModel):
    """A workflow under its other name; `referring` are workflows that still name it as it was called."""

    workflow: str
    version: int
    referring: list[str]


class VersionOut(BaseModel):
    number: int
    on: bool
    author: str
    remark: str = Field("", description="What whoever saved it says is new.")
    created_at: datetime
    good: int = Field(0, description="Answers of its runs that who talks found good.")
    bad: int = Field(0, description="And bad.")


class FieldChangeOut(BaseModel):
    name: str
    before: str | None = Field(description="As it reads, shortened; null where it was not there.")
    after: str | None = Field(description="As it reads, shortened; null where it is not there any more.")


class DifferenceOut(BaseModel):
    what: Literal["added", "removed", "changed", "moved", "renamed"]
    number: str = Field(description="Of its line in the script; empty of what stands around the steps.")
    sentence: str
    step: str
    fields: list[FieldChangeOut]
    before: str = Field(description="What a renamed step was called.")


class ComparedOut(BaseModel):
    differences: list[DifferenceOut]
    more: int = Field(description="How many more there are.")


class WorkflowPage(BaseModel):
    workflow: WorkflowOut
    version: int
    text: str
    checked: CheckedOut
    versions: list[VersionOut]
    settings: dict[str, object]
    settings_tag: str = Field(description="What they are now, for If-Match.")


class SavedOut(BaseModel):
    workflow: str
    version: int
    new: bool
    findings: list[FindingOut]


class RunOut(BaseModel):
    """A run. Times are RFC 3339; `seconds` from start to end (or until now); money in the workspace's currency."""

    id: UUID
    workflow: str
    version: int
    state: str
    subject: str | None
    trigger: str
    error: ErrorOut | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    seconds: float | None
    steps: int
    attempts: int
    tokens_in: int
    tokens_out: int
    money: float
    unpriced: int = Field(0, description="Calls of models whose price is not known; they are not in `money`.")
    note: str = Field("", description="What is worth knowing of it: which agent was ended by a limit, and answered.")
    mended_by: UUID | None = Field(None, description="Of a failed one: the run that did it again, and succeeded.")
    kind: str
    parent_id: UUID | None = Field(description="The run that started it.")
    origin_id: UUID | None = Field(description="The run it does again.")
    origin_how: str | None = Field(description="Where from: start, failure or step.")
    depth: int = Field(0, description="How many events that runs caused stand between it and what came from outside.")


class StartedOut(RunOut):
    """A run that was begun; `result` where its end was waited for, and it succeeded."""

    result: object = None


class MissingOut(BaseModel):
    """An event that was answered and that the database does not hold any more; `run` is the id its sender was told."""

    run: UUID
    workflow: str
    source: str
    event_key: str = Field(description="The sender's id for it, or the event's own where it gave none.")
    answered_at: datetime


class RestoreOut(BaseModel):
    """What a restore of the database has left to be looked after."""

    held: int = Field(description="Runs that are held until somebody releases them.")
    count: int = Field(description="Events that are missing.")
    missing: list[MissingOut]
    next: UUID | None = Field(None, description="Give as `after` for the next page.")


class LargeOut(BaseModel):
    """A payload too large to be told in place: what stands there is a preview, the whole is at `/artifacts/<id>`."""

    of: Literal["body", "detail"]
    id: str
    bytes: int


class EventOut(BaseModel):
    id: UUID
    key: str
    source: str
    type: str
    at: datetime
    data: object
    headers: dict[str, str]
    query: dict[str, str]
    run_id: UUID
    workflow: str
    trigger: str
    large: list[LargeOut]


class RunDetail(BaseModel):
    run: RunOut
    result: object
    answer: object
    event: EventOut
    why: str = Field(description="If it is not moving: why.")
    children: list[RunOut] = Field(description="Runs it started, the latest first; not the parts of its lists.")
    again: list[RunOut] = Field(description="Runs that do it again.")
    questions: int = Field(description="Open questions in the tray.")
    workers: list[str] = Field(description="Names of the workers that were at it last, the latest first.")


class AttemptOut(BaseModel):
    number: int
    state: str
    started: datetime | None
    ended: datetime | None
    error: ErrorOut | None
    again_at: str | None
    note: str
    usage: Usage | None
    detail: dict[str, object] | None


class SpanOut(BaseModel):
    """What happened under one path (see `engine.trace.Span`)."""

    path: str
    line: str
    kind: str
    state: str
    started: datetime | None
    ended: datetime | None
    attempts: list[AttemptOut]
    input: object
    output: object
    error: ErrorOut | None
    way: int | None
    until: str | None
    runs: list[UUID] = Field(description="Child runs that it started.")
    note: str
    strands: list[str] = Field(description="Names of the strands side by side inside it.")
    empty: list[str]
    tokens: int
    money: float
    unpriced: int = Field(0, description="Calls of models whose price is not known.")
    large: list[LargeOut] = Field(description="Of what only a preview is told here.")


class HourOut(BaseModel):
    """Runs that began within a step of time, by how they ended."""

    at: datetime
    succeeded: int = 0
    failed: int = 0
    cancelled: int = 0
    open: int = Field(0, description="Those that have not ended.")


class CauseOut(BaseModel):
    """What made runs fail that no later run mended."""

    workflow: str
    kind: str
    step: str
    count: int
    run: UUID = Field(description="The latest of them.")
    at: datetime
    message: str


class OverviewOut(BaseModel):
    step: int = Field(description="How many hours a step of time has.")
    hours: list[HourOut]
    causes: list[CauseOut]
    waiting: int = Field(description="Open questions.")


class CountsOut(BaseModel):
    questions: int
    connections: int = Field(description="Credentials that need reconnecting.")


class UsageOut(BaseModel):
    """Sums; of `day`, `workflow`, `alias`, `credential` and `source` those are set that were grouped by."""

    day: str | None = None
    workflow: str | None = None
    alias: str | None = None
    credential: str | None = None
    source: str | None = None
    calls: int
    input: int
    cached: int
    output: int
    money: float
    unpriced: int = Field(0, description="Calls of models whose price is not known; they are not in `money`.")


class BudgetOut(BaseModel):
    name: str
    workflow: str
    period: str
    money: float
    warn_at: float
    state: str = Field(description="`within`, `warned` or `spent`; when spent, no model is asked.")
    spent: float
    tag: str = Field(description="What it is now, for If-Match.")


class CreditOut(BaseModel):
    """What an account held when it was noted, and what is left of it; `unpriced` calls since whose price is not known cost
    more than is counted."""

    credential: str
    money: float
    spent: float
    left: float
    a_day: float = Field(description="What it cost a day of late.")
    lasts: datetime | None = Field(description="When nothing is left at that pace.")
    unpriced: int
    state: str = Field(description="`within`, `warned` when it ends soon, or `spent`.")
    noted_at: datetime


class SourceOut(BaseModel):
    """Where something was found."""

    url: str
    title: str


class TalkedOut(BaseModel):
    """What an agent answered in a throw-away conversation."""

    text: str
    data: object
    why: str = Field(description="Why it was ended, if by a limit or for want of progress.")
    sources: list[SourceOut] = Field(default_factory=list, description="What its answer rests on.")
    error: ErrorOut | None
    waits: str | None = Field(description="Where it would rest: for an approval, or another run.")
    tokens: int
    money: float | None
    messages: list[Message] = Field(description="The conversation so far; send it along with what is said next.")
    spans: list["SpanOut"]


class ServerOut(BaseModel):
    name: str
    config: dict[str, object]
    updated_at: datetime
    tag: str = Field(description="What it is now, for If-Match.")


class ServerToolOut(BaseModel):
    name: str
    title: str
    description: str
    input: dict[str, object] = Field(description="JSON Schema of its arguments.")
    safe: bool = Field(description="Whether it says that repeating a call does no harm.")
    wrong: str = Field(description="Why agents are not offered it; empty when they are.")


class ServerTestOut(BaseModel):
    ok: bool
    sentence: str
    fix: str
    tools: list["ServerToolOut"] = Field(description="What it offers.")


class ConversationOut(BaseModel):
    key: str
    messages: int
    channel: str = Field(
        description="Where it is held: page, or a channel; empty for one that is only an agent's memory."
    )
    person: str = Field(description="Who talks there, as far as they are named.")
    summary: str = Field(description="What is older than the window, in short.")
    facts: dict[str, str] = Field(description="What an agent kept about whom it talks with.")
    question: UUID | None = Field(None, description="The question that is open there.")
    handed_over: bool = Field(False, description="Whether that is a person's taking over.")
    created_at: datetime
    updated_at: datetime


class MessageOut(BaseModel):
    """Something said in a conversation. `state` of what leaves by a channel: waiting, sent, refused, unknown; `why` it is not sent."""

    seq: int
    role: str
    message: dict[str, object]
    run_id: UUID | None
    at: datetime
    state: str | None = None
    why: str = ""
    good: bool | None = Field(None, description="Whether who talks found it good; null where nobody judged.")
    by: str = Field("", description="The person who said it in the place of the workflow.")
    buttons: list[str] = []
    parts: list[dict[str, object]] = Field([], description="Files that came with it.")
    unkept: list[dict[str, str]] = Field(
        [], description="What an agent claims in it and no call did: each a sentence and its tool."
    )


class TraceOut(BaseModel):
    run: RunOut
    script: list[LineOut]
    spans: list[SpanOut]
    next: int | None = Field(None, description="Give as `after` for more; spans may then be told in part.")


class OtherAliasOut(BaseModel):
    alias: str
    money: float = Field(description="What it would take for as many tokens.")


class AskedOut(BaseModel):
    """A line that asks a model: what it costs in a run, and what cheaper ones would take."""

    step: str
    number: str
    sentence: str
    alias: str
    money: float | None = Field(description="Null while nothing is known of it.")
    others: list[OtherAliasOut]


class StartsOut(BaseModel):
    """How often a start comes: counted where it is a matter of the calendar, else `measured` of the last week."""

    trigger: str
    sentence: str
    a_month: float | None
    next: list[datetime]
    measured: bool


class DrainOut(BaseModel):
    """How long the credit of an account lasts, with this workflow at its pace."""

    credential: str
    left: float
    lasts: datetime | None


class PriceOut(BaseModel):
    a_run: float | None = Field(description="Money of a run, a mean; null while nothing is known.")
    unpriced: int = Field(description="Calls whose price is not known; they are not in it.")
    runs: int = Field(description="How many runs that is the mean of; 0 where it is of tries.")
    asks: list[AskedOut] = Field(description="The dearest first.")
    starts: list[StartsOut]
    a_month: float | None
    drains: list[DrainOut]


class BriefErrorOut(BaseModel):
    kind: str
    message: str = Field(description="Cut where it is long.")


class BriefAttemptOut(BaseModel):
    number: int
    state: str
    started: datetime | None
    ended: datetime | None
    error: BriefErrorOut | None
    again_at: str | None
    note: str


class BriefOut(BaseModel):
    """What happened under one path, without what was given, asked and answered: that is told in its record."""

    path: str
    line: str
    kind: str
    state: str
    started: datetime | None
    ended: datetime | None
    attempts: list[BriefAttemptOut] = Field(description="The last ones.")
    tried: int = Field(description="How many attempts there were.")
    error: BriefErrorOut | None
    way: int | None
    until: str | None
    note: str
    tokens: int
    money: float
    unpriced: int
    given: str = Field(description="A digest of what it was given; empty for nothing.")
    gave: str = Field(description="A digest of what it gave; empty for nothing.")


class LoopOut(BaseModel):
    """How far a list or loop is; its items are numbered from 0."""

    path: str
    kind: Literal["each", "repeat"]
    all: int | None = Field(description="How many items there are; null for a loop, whose end is not known beforehand.")
    ended: int
    failed: int
    chosen: int = Field(description="The item that is told.")


class ViewOut(BaseModel):
    """A run as it is looked at: every line once, of lists and loops one item."""

    run: RunOut
    script: list[LineOut]
    spans: list[BriefOut]
    loops: list[LoopOut]


class RecordOut(BaseModel):
    """What is recorded of one place, with what lies in it."""

    span: SpanOut
    inner: list[SpanOut]
    cut: int = Field(description="How many earlier ones inside are not told.")


class ItemOut(BaseModel):
    """An item of a list or a round of a loop."""

    index: int
    path: str
    state: Literal["succeeded", "failed", "cancelled", "running", "queued", "not begun"]
    label: str = Field(description="What it was, in brief; empty for a round.")
    at: datetime | None = Field(description="When something happened in it last.")
    tokens: int
    money: float
    unpriced: int


class EntryOut(BaseModel):
    seq: int
    path: str
    kind: str
    attempt: int
    hash: str
    body: object
    detail: object
    started: datetime | None
    at: datetime | None
    worker: UUID | None
    large: list[LargeOut]


class ConnectionOut(BaseModel):
    """What an OAuth app was let do: `state` is `none` when nobody has consented yet, `ready`, or `reconnect`, then `why`."""

    state: Literal["none", "ready", "reconnect"]
    account: str = ""
    scopes: list[str] = Field(default_factory=list, description="Those that were given.")
    lacking: list[str] = Field(
        default_factory=list, description="Those that a call was refused for, or that it asks for."
    )
    why: str = ""
    since: datetime | None = None
    expires_at: datetime | None = Field(
        None, description="When its present token is over; it is refreshed before that."
    )
    by: str = Field("", description="Who consented.")


class CredentialOut(BaseModel):
    """A stored credential without its secrets."""

    name: str
    kind: str
    sent: bool = Field(description="Whether it is sent with requests.")
    places: list[str] = Field(description="Where it may be sent.")
    config: dict[str, object]
    about: str = Field("", description="What may be told of it beside its fields, as whose certificate it is.")
    secrets: list[str] = Field(
        default_factory=list, description="Its fields that hold secrets, `secrets.token` of a mapping."
    )
    connection: ConnectionOut | None = Field(None, description="Of an OAuth app: what it was let do.")
    last_test: dict[str, object] | None
    last_used_at: datetime | None
    last_worked_at: datetime | None = Field(description="When a call with it, as it is now, went well last.")
    created_at: datetime
    updated_at: datetime
    tag: str = Field(description="What it is now, for If-Match.")


class WorkflowUseOut(BaseModel):
    name: str
    on: bool


class CredentialUseOut(BaseModel):
    """What uses a credential."""

    workflows: list[WorkflowUseOut] = Field(
        description="Workflows and agents that name it, in the version that is on or the newest one."
    )
    models: list[str]
    servers: list[str]
    credentials: list[str] = Field(description="Mailboxes that sign in with its token.")
    runs: list[RunOut] = Field(description="The last runs of these workflows.")
    waiting: int = Field(description="Runs that wait for it.")
    would_stop: bool = Field(description="Whether something that is on would stop without it.")
    sentence: str


class ConsentBegunOut(BaseModel):
    """Where to consent, and until when."""

    url: str
    redirect: str = Field(description="The address that must be registered with the provider.")
    scopes: list[str]
    until: datetime


class ConsentedOut(BaseModel):
    """What came of a consent."""

    credential: CredentialOut
    waiting: int = Field(description="Runs that waited for it, and go on.")
    sentence: str


class ProviderOut(BaseModel):
    """What is known of an OAuth app's provider; empty where it is not."""

    redirect: str = Field(description="The address to register with the provider.")
    issuer: str = ""
    authorize_url: str = ""
    token_url: str = ""
    revoke_url: str = ""
    account_url: str = ""
    client_id: str = ""
    way: Literal["basic", "post"] = "basic"
    named_issuer: bool = False
    scopes: list[str] = Field(default_factory=list)
    registered: bool | None = Field(
        None, description="Whether a client file names the redirect address; null where it names none."
    )


class BrokenOut(BaseModel):
    """A credential that needs reconnecting."""

    credential: str
    why: str
    since: datetime
    by: str
    account: str
    waiting: int = Field(description="Runs that wait for it.")


class ReadyOut(BaseModel):
    waiting: int = Field(description="Runs that wait for this credential or for credit of its account.")


class TestOut(BaseModel):
    """A test: whether it went well, a sentence, and both sides of the exchange."""

    ok: bool
    tried: bool = Field(True, description="False where there was nothing to try it on: it is neither right nor wrong.")
    sentence: str
    fix: str = ""
    exchange: dict[str, object] | None = None
    messages: object = Field(None, description="What a model was asked.")
    offered: list[str] = Field(default_factory=list)
    reply: str = ""
    account: str = Field("", description="Whose a credential is, where that is told.")
    may: list[str] = Field(default_factory=list, description="What it may do, where that is told.")
    at: datetime


class AliasOut(BaseModel):
    name: str
    config: dict[str, object]
    updated_at: datetime
    tag: str = Field(description="What it is now, for If-Match.")


class OfferedOut(BaseModel):
    """A model that a server offers, with what the server says of it."""

    id: str
    purpose: str = Field(description="chat, vectors, speech or other, as its name tells.")
    context: int | None = Field(description="Tokens of its context.")
    read: float | None = Field(description="Money per million tokens read.")
    written: float | None = Field(description="Money per million tokens written.")


class RefusalOut(BaseModel):
    """A delivery that a webhook did not take: from which address and program, and why."""

    path: str
    status: int
    reason: str
    source: str
    agent: str
    at: datetime


class ImportColumn(BaseModel):
    """A column of a file: its head, the table's column that it means, that one's type, and its first cells."""

    head: str
    name: str
    type: str
    seen: list[str]


class ImportFault(BaseModel):
    line: int
    message: str


class ImportOut(BaseModel):
    """What an import did, or would do: `created` when the table was not there; `faults` are lines that do not fit."""

    columns: list[ImportColumn]
    rows: int
    added: int
    updated: int
    faults: list[ImportFault] = Field(description="The first 100.")
    created: bool
    sheets: list[str] = Field(description="The sheets of a workbook.")


class ExampleOut(BaseModel):
    """A workflow to begin with; `needs_model` while it asks a model and there is none."""

    name: str
    title: str
    note: str
    text: str
    needs_model: bool


class ModelServerOut(BaseModel):
    """A model server: its base address, version included; `keyed` when it asks for a key, or was given one."""

    url: str
    keyed: bool
    models: list[OfferedOut]


class ConnectedOut(BaseModel):
    """A model that was connected, the credential that its key became, and what it answered."""

    alias: AliasOut
    credential: str | None
    test: TestOut


class FileOut(BaseModel):
    """A file that is kept here, as workflows pass it on."""

    file: UUID = Field(description="Its id; the same bytes have the same one.")
    name: str
    type: str = Field(description="Its media type.")
    size: int = Field(description="Bytes.")
    created_at: datetime


class HeldByRow(BaseModel):
    table: str
    row: UUID


class HeldBySample(BaseModel):
    workflow: str
    sample: str


class FileDetail(FileOut):
    """A file with its SHA-256, and what refers to it: the latest runs that hold it in what they were given or gave, rows, samples."""

    digest: str
    runs: list[UUID]
    rows: list[HeldByRow]
    samples: list[HeldBySample]


class AddressOut(BaseModel):
    """An address of a file for whoever has it, and until when."""

    url: str
    until: datetime


class TableOut(BaseModel):
    name: str
    columns: list[dict[str, str]]
    rows: int = Field(description="How many there are here; those of a linked table are not counted.")
    created_at: datetime
    link: dict[str, object] | None = Field(description="Where its rows live, when that is elsewhere.")


class RowOut(BaseModel):
    id: UUID | str = Field(description="Its id; of a linked table the values of its key, as JSON.")
    row: dict[str, object]
    updated_at: datetime
    tag: str = Field(description="What it is now, for If-Match.")


class ActionOut(BaseModel):
    name: str
    title: str
    connector: str
    reach: str
    repeat: str
    timeout: float
    streams: bool = Field(description="Whether its answer is told while it is being written.")
    input: dict[str, object]
    output: dict[str, object]
    first: list[str] = Field(description="The fields that matter first.")
    example: dict[str, object] = Field(description="A `with` to begin with.")
    example_gives: object = Field(None, description="What it gave; `…` stands for what is another each time.")
    credentials: list[str] = Field(description="Kinds of credentials it takes; empty for every kind that is sent.")
    scopes: list[str] = Field(description="Scopes (OAuth 2) that its credential needs.")


class ConnectorOut(BaseModel):
    name: str
    title: str
    package: str = Field(description="The package it came with; empty for one that was read from a description.")
    version: str
    address: str = Field("", description="Where the service is of one that was read from a description.")
    fault: str = Field(description="Why it cannot be used; empty when it can.")
    actions: list[str]
    credentials: list[str]
    triggers: list[str]


class OperationOut(BaseModel):
    """What an operation of a description has become."""

    key: str = Field(description="Its method and path.")
    action: ActionOut
    about: str
    group: str
    sent_as: list[str] = Field(description="Where its credential goes, one for each way there is.")
    pages: bool = Field(description="Whether its pages are followed.")
    gives: Literal["data", "text", "file", "nothing"]
    notes: list[str]


class OfferedOperationOut(BaseModel):
    """An operation of a description, in short."""

    key: str = Field(description="Its method and path.")
    name: str
    title: str
    group: str
    repeat: str
    fields: list[str]
    credentials: list[str]
    pages: bool
    fault: str = Field(description="Why it cannot be taken; empty when it can.")


class DescriptionOut(BaseModel):
    """What a description says."""

    title: str
    name: str = Field(description="A name that a connector of it may have.")
    version: str
    about: str
    source: str = Field(description="Where it was had from.")
    addresses: list[str] = Field(description="Where its service is; empty when it does not say.")
    offered: list[OfferedOperationOut]
    operations: list[OperationOut] = Field(description="Those that were asked for.")
    notes: list[str]


class ConnectorVersionOut(BaseModel):
    number: int
    author: str
    version: str = Field(description="As the description calls its own version.")
    created_at: datetime


class ConnectorDetailOut(BaseModel):
    name: str
    title: str
    address: str = Field(description="Where its service is.")
    source: str = Field(description="The address or name of its description.")
    version: str = Field(description="As the description calls its own version.")
    number: int = Field(description="The version that is used.")
    operations: list[OperationOut]
    versions: list[ConnectorVersionOut] = Field(description="The newest first.")
    workflows: list[WorkflowUseOut] = Field(description="Workflows and agents that use its actions.")
    updated_at: datetime


class OperationChangeOut(BaseModel):
    key: str
    name: str
    gone: bool = Field(description="Whether the description has it no more.")
    what: list[str] = Field(description="What is another, in sentences.")
    workflows: list[WorkflowUseOut] = Field(description="Workflows and agents that use it.")


class ConnectorComparedOut(BaseModel):
    version: str = Field(description="As the description calls its own version.")
    changed: list[OperationChangeOut]
    offered: list[OfferedOperationOut] = Field(description="What it offers besides.")


class ActionTriedOut(BaseModel):
    """How it went to carry out an action by hand."""

    ok: bool
    sentence: str
    kind: str = Field("", description="The kind of error; empty when it went well.")
    fix: str = ""
    output: object = Field(None, description="What it gave; the beginning of its JSON where that is long.")
    exchange: dict[str, object] | None = Field(None, description="Request and reply, without the secret.")


class CurlOut(BaseModel):
    """A curl command as a step."""

    do: Literal["http.request"] = "http.request"
    name: str = Field(description="A name that a step of it may have.")
    fields: dict[str, object] = Field(description="What stands under `with`.")
    credential: str | None = Field(description="The credential that was stored of what proves who asks.")
    notes: list[str]


class CredentialKindOut(BaseModel):
    name: str
    title: str
    sent: bool = Field(description="Whether it is sent with requests; others prove who sends to us.")
    input: dict[str, object]


class TriggerKindOut(BaseModel):
    name: str
    way: str = Field(description="How occasions come: request, time, watch, event, table or run.")
    input: dict[str, object]


class TokenOut(BaseModel):
    id: UUID
    name: str
    created_at: datetime
    expires_at: datetime | None = None
    last_used_at: datetime | None = Field(None, description="To the minute.")
    rights: list[str] | None = Field(None, description="What it may; all its member may when null.")
    workflows: list[str] | None = Field(None, description="The only workflows it is for; all when null.")
    secret: str | None = Field(None, description="Shown once, when it is made.")


class OpenSessionOut(BaseModel):
    id: UUID
    created_at: datetime
    expires_at: datetime | None
    last_used_at: datetime | None = Field(description="To the minute.")
    address: str = Field(description="Where it was begun.")
    agent: str = Field(description="The browser that began it, as it named itself.")
    this: bool = Field(description="Whether it is the one that asks.")


class SessionOut(BaseModel):
    name: str
    by: str
    currency: str = Field(description="Of prices and sums (ISO 4217); empty where none is set.")
    release: str = Field(description="Of the service.")


class SettingOut(BaseModel):
    """Something that can be set of the service; `own` where it is not left as it comes."""

    name: str
    value: str
    about: str
    own: bool


class QuestionOut(BaseModel):
    """Something that waits for a person. `alike` counts the open questions that can be answered together."""

    id: UUID
    run_id: UUID | None
    workflow: str
    path: str
    subject: str | None
    text: str
    choices: list[str] | None
    form: dict[str, object] | None
    input: object
    state: str
    alike: int
    link: str | None = Field(description="A signed link that needs no sign-in.")
    conversation: str | None = Field(
        description="The key of the conversation that it is put in, or that a person has taken over."
    )
    handed_over: bool = Field(description="Whether a person has taken over the conversation, until it is answered.")
    created_at: datetime
    expires_at: datetime | None
    answered_at: datetime | None
    answered_by: str | None
    answer: object


class ScheduleOut(BaseModel):
    """A trigger in time. `fault` is why the last look for new items failed."""

    workflow: str
    trigger: str
    kind: str
    words: str = Field(description="When it comes, in words.")
    rule: str
    zone: str
    paused: bool
    next_at: datetime | None
    last_at: datetime | None
    fault: str | None
    occurrences: list[datetime]


class PublishedOut(BaseModel):
    id: str
    type: str
    duplicate: bool


class KeptOut(BaseModel):
    """What doing a run again keeps of it, and what it does anew, as paths of steps; `run` once it is started."""

    model_config = ConfigDict(populate_by_name=True)

    run: UUID | None
    from_: str = Field(alias="from", description="start, failure or step.")
    step: str = Field(description="The step it goes on from; empty where that is the start.")
    version: int = Field(description="The version that it is carried out with.")
    kept: list[str]
    anew: list[str]


class SeenEvent(BaseModel):
    """An event as documents see it by the name `event`."""

    id: str
    source: str
    type: str
    time: str
    data: object
    headers: dict[str, object]
    query: dict[str, object]


SampleName = Annotated[str, Field(max_length=100)]


class SampleOut(BaseModel):
    """A kept event (`step` is empty) or result of a step."""

    id: UUID
    step: str
    name: str
    value: object = Field(description="What the step gave, or the input that was made of the event.")
    trigger: str = Field(description="The trigger that the event came by.")
    event: SeenEvent | None
    created_at: datetime


class AwaitedOut(BaseModel):
    """The next event of a trigger is kept as a sample of that name, if it comes in time."""

    trigger: str
    sample: str
    until: datetime


class TriggerOut(BaseModel):
    """A trigger of the newest version; whoever knows `draft_url` starts runs of it by sending events there, and `request` is one
    as a command for a shell."""

    trigger: str
    kind: str
    sentence: str
    page: str = Field(
        description="Where people talk with it, while the workflow is on; empty of what is no conversation."
    )
    draft_page: str = Field(description="The page of the newest version, on or not; empty of what has no page.")
    draft_url: str
    request: str
    awaited: AwaitedOut | None


class TriedOut(BaseModel):
    """How a try went. `waits`: the step it would rest at."""

    state: str
    result: object
    error: ErrorOut | None
    waits: str | None
    spans: list[SpanOut]
