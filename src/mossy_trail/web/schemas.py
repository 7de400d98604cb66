"""What the API says. Times are in milliseconds since 1970 in UTC."""

from __future__ import annotations

from typing import Annotated, Any, Generic, Literal, TypeVar
from zoneinfo import available_timezones

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from mossy_trail.core.measures.health import FINDINGS, LOUD
from mossy_trail.core.model.log import OUTCOMES
from mossy_trail.core.model.steps import EXITS, FATES, MARKS, MOVES, STARTS
from mossy_trail.core.stats.intervals import Difference
from mossy_trail.engine.trial import Counts
from mossy_trail.intake.patterns import is_pattern
from mossy_trail.intake.proposal import Doubt
from mossy_trail.intake.reader import Word
from mossy_trail.intake.rows import FIELDS
from mossy_trail.intake.times import FORMS, is_written_form
from mossy_trail.store.models import JOB_STATES
from mossy_trail.store.team import ROLES

Unit = Literal["sessions", "users"]
FieldName = Literal[FIELDS]  # type: ignore[valid-type]
Role = Literal[ROLES]  # type: ignore[valid-type]
Exit = Literal[EXITS]  # type: ignore[valid-type]
Mark = Literal[MARKS]  # type: ignore[valid-type]
Move = Literal[MOVES]  # type: ignore[valid-type]


def known_zone(zone: str) -> str:
    if zone not in available_timezones():
        raise ValueError("There is no such time zone.")
    return zone


def known_form(form: str) -> str:
    if form not in FORMS and not is_written_form(form):
        raise ValueError("Times cannot be read in this form.")
    return form


def known_pattern(pattern: str) -> str:
    if not is_pattern(pattern):
        raise ValueError("A pattern has holes with different names, as “Viewed {screen} Screen”.")
    return pattern


class AppSummary(BaseModel):
    key: str
    name: str
    logs: int
    rows: int
    first: int | None
    last: int | None
    map: int | None
    """The version of the map in use."""
    tabs: list[str]
    """The map's tabs, in their order."""
    screens: int
    live: bool
    """It has an ingest key, so that rows may come in at any time."""
    role: Role
    """What whoever asks may do with it."""


class NewApp(BaseModel):
    name: str = Field(min_length=1, max_length=200)


class MapSummary(BaseModel):
    version: int
    screens: int
    tabs: int
    links: int


class ShapeView(BaseModel):
    """Files of a log that are read by one mapping, by the first of them."""

    file: int
    name: str


class LogSummary(BaseModel):
    id: int
    files: list[str]
    shapes: list[ShapeView]
    live: bool
    waiting: int
    """Events of a live log that are kept, and not read into rows yet."""
    duplicates: int
    """Events of a live log that were sent again, and dropped."""
    rows_read: int
    rows: int
    set_aside: int
    reasons: dict[str, int]
    users: int
    first: int | None
    last: int | None
    created: int


class Fates(BaseModel):
    """What became of an app's rows, by what became of each."""

    kept: int
    made: int
    merged: int
    doubled: int
    repeated: int
    resent: int


JobState = Literal[
    "uploading",
    "waiting",
    "reading",
    "storing",
    "replaying",
    "asking",
    "done",
    "failed",
    "cancelled",
    "interrupted",
]
assert set(JOB_STATES) | {"replaying"} == set(JobState.__args__)  # type: ignore[attr-defined]


class NewFile(BaseModel):
    name: str = Field(min_length=1, max_length=400)
    bytes: int = Field(ge=0)


class NewImport(BaseModel):
    """The files that together are one log."""

    files: list[NewFile] = Field(min_length=1, max_length=5000)


class JobView(BaseModel):
    id: int
    files: list[str]
    bytes: int
    state: JobState
    message: str
    mend: str
    anew: bool
    """A log that is in already is read once more."""
    log_id: int | None
    created: int
    bytes_read: int = 0
    rows: int = 0
    set_aside: int = 0
    stored: int = 0
    can_retry: bool = False


class TimesBody(BaseModel):
    """How times are read: in what form or unit, and in which zone those without one are."""

    form: Annotated[str, AfterValidator(known_form)] = FORMS[0]
    zone: Annotated[str, AfterValidator(known_zone)] = "UTC"


class MappingBody(BaseModel):
    """Per field the columns that make it up, fields with one value, and what words mean.

    A word means an event, with or without an outcome (“sign_in ok”), “custom” or “leave out”.
    `patterns` have holes, as “Viewed {screen} Screen”. Columns are left out, or kept as hashes.
    """

    fields: dict[FieldName, list[str]]
    constants: dict[FieldName, str] = {}
    events: dict[str, str] = {}
    outcomes: dict[str, Literal[OUTCOMES]] = {}  # type: ignore[valid-type]
    patterns: list[Annotated[str, AfterValidator(known_pattern)]] = Field([], max_length=500)
    left_out: list[str] = []
    hashed: list[str] = []
    times: TimesBody = TimesBody()


class MappingPreview(BaseModel):
    """The first rows of a file as they came, and as they will be read."""

    file: str
    columns: list[str]
    raw: list[dict[str, str | None]]
    read: list[dict[str, str | None]]
    mapping: MappingBody
    reasons: dict[str, str]
    missing: list[FieldName]
    words: list[Word]
    doubts: list[Doubt]
    counts: Counts | None
    """None where no row can be read."""


class IngestKey(BaseModel):
    key: str


class ReceivedView(BaseModel):
    """What becomes of an event; `reason` says why one is set aside."""

    id: str
    fate: Literal["used", "doubled", "set aside"]
    reason: str


class ReceiptView(BaseModel):
    """Events that are used, that had been sent before, and that cannot be used."""

    accepted: int
    duplicates: int
    set_aside: int
    events: list[ReceivedView]


class Logs(BaseModel):
    logs: list[LogSummary]
    jobs: list[JobView]
    fates: Fates
    has_key: bool
    """Events can be sent to the app."""


class SetAsideView(BaseModel):
    file: str
    line: int
    reason: str
    text: str


class SetAsidePage(BaseModel):
    total: int
    rows: list[SetAsideView]


class JourneySummary(BaseModel):
    key: str
    user: str
    session: str | None
    start: int
    duration: int
    steps: int
    deepest: int
    exit: Exit
    marks: list[Mark]
    depths: list[int]
    grounds: list[str]


class ListedJourney(JourneySummary):
    sorted_by: int | None = None
    """What the list is sorted by, if that is what figures are made of: times in ms, or a number."""


class JourneyPage(BaseModel):
    total: int
    journeys: list[ListedJourney]


class OpenedCount(BaseModel):
    """What is behind a count of a file that is not in yet; not all of it, if there is much."""

    total: int
    journeys: list[JourneySummary]
    rows: list[SetAsideView]


class StepView(BaseModel):
    step: int
    asked_at: int
    time: int
    until: int | None
    screen: str
    params: str | None
    wanted: str | None
    tab: str | None
    tab_reported: str | None
    move: Move
    inferred: bool
    unsure: bool
    region: Literal["outside", "tab", "sheet"]
    depth: int
    below: str | None
    below_params: str | None
    load_ms: int | None
    dwell_ms: int | None
    link: str | None
    source: str | None
    exit: Exit | None
    marks: list[Mark]
    repeats: int


class Journey(JourneySummary):
    start_kind: Literal[STARTS]  # type: ignore[valid-type]
    tabs: list[str]
    properties: dict[str, str]
    trail: list[StepView]


class Slip(BaseModel):
    screen: str
    params: str | None
    region: str
    tab: str | None


class RestingPile(BaseModel):
    tab: str
    stack: list[Slip]


class RowView(BaseModel):
    file: str
    line: int
    time: int
    event: str
    screen: str | None
    from_: str | None = Field(alias="from")
    params: str | None
    outcome: str | None
    fate: Literal[FATES]  # type: ignore[valid-type]
    raw: str


class StepDetail(BaseModel):
    stack: list[Slip]
    resting: list[RestingPile]
    rows: list[RowView]


class ReasonCount(BaseModel):
    reason: str
    rows: int


class BarsView(BaseModel):
    """Rows over time, each bar of so many hours, from the first hour on."""

    hours: int
    rows: list[int]


class GapView(BaseModel):
    """A stretch without rows, and how many sessions usually begin in such a one."""

    start: int
    end: int
    expected: int


class PatternView(BaseModel):
    """Names that differ only in ids."""

    pattern: str
    names: int
    example: str


class HealthView(BaseModel):
    rows: int
    steps: int
    journeys: int
    fates: Fates
    findings: dict[Literal[FINDINGS], int]  # type: ignore[valid-type]
    """Rows by what is odd about them."""
    loud: dict[Literal[LOUD], int]  # type: ignore[valid-type]
    """What makes figures wrong or missing all over the log, and the rows it is about."""
    words_unread: dict[str, int]
    """The most used words that are no events of ours, with their rows."""
    set_aside: list[ReasonCount]
    duplicates: int
    """Events that were sent again, and dropped."""
    first: int | None
    last: int | None
    bars: BarsView
    gaps: list[GapView]
    screens: int
    too_many_screens: bool
    patterns: list[PatternView]


class HealthRow(RowView):
    user: str
    session: str | None
    journey: str | None
    step: int


class HealthRows(BaseModel):
    total: int
    rows: list[HealthRow]


class ErasedView(BaseModel):
    """Rows erased, rows set aside that named the user, and from how many logs."""

    rows: int
    set_aside: int
    logs: int
    not_landed: int
    """Imports that did not land, and whose files are kept until they are dismissed."""


class ScopeCounts(BaseModel):
    journeys: int
    users: int
    odd_clocks: int
    """Journeys of clocks that cannot be right: they are in scope only by themselves."""
    version: str
    """Differs whenever rows or map do: then all figures are to be asked for anew."""


class Proposal(BaseModel):
    screen: str
    why: str


class MapScreen(BaseModel):
    name: str
    unknown: bool
    """The log names it, and the map does not."""
    visits: int
    journeys: int
    depth: str
    """Where it stands: outside, sheet, tab:NAME, or nowhere of these."""
    proposal: Proposal | None


class SeenMove(BaseModel):
    model_config = ConfigDict(populate_by_name=True)

    start: str = Field(alias="from")
    to: str
    by: str
    steps: int = 0
    journeys: int = 0


class Practice(BaseModel):
    never_seen: list[SeenMove]
    not_declared: list[SeenMove]
    unreached: list[str]
    no_way_out: list[str]


class MapVersion(BaseModel):
    version: int
    made_at: int
    author: str


class MapView(BaseModel):
    document: dict[str, Any]
    versions: list[MapVersion]
    screens: list[MapScreen]
    folded: dict[str, str]
    """Logged names that are read as a screen's, though case, spaces or dashes differ."""
    moves: list[SeenMove]
    practice: Practice


class GuessView(BaseModel):
    where: str
    value: str
    why: str
    sure: bool


class DraftView(BaseModel):
    document: dict[str, Any]
    guesses: list[GuessView]


class SettingFit(BaseModel):
    rule: str
    setting: str
    misfits: int


class FitOf(BaseModel):
    name: str
    told: int
    """Moves that rows tell, and of which the replay says where they lead."""
    landed: int
    """Of these, those that landed there."""


class MisfitView(BaseModel):
    move: str
    from_: str = Field(alias="from")
    """Empty at the start of a journey."""
    expected: str
    """Empty where the move should have left the app, or led to nothing that stands."""
    came: str
    steps: int
    journeys: int


class FitView(BaseModel):
    """How well the replay fits a log."""

    told: int
    landed: int
    steps: int
    sure: int
    """Steps that are not unsure: the figure for logs of views alone."""
    by_move: list[FitOf]
    by_screen: list[FitOf]
    """The screens with the most misfits."""
    by: str
    by_value: list[FitOf]
    misfits: list[MisfitView]


class MendBody(BaseModel):
    kind: Literal["history", "link", "tab", "alias"]
    subject: str
    value: str


class MendView(MendBody):
    landed: int
    told: int
    mended: float
    """The share of the misfits that come to fit; of a large log, of a sample of its users."""


class HistoryFits(BaseModel):
    value: str
    """The property's value that this is of; empty for the whole log."""
    history: dict[str, str]
    told: dict[str, bool]
    """Whether the log tells the setting from the others."""
    fits: list[SettingFit]
    moves: int
    """Moves that rows tell of."""
    links: dict[str, str]
    """What lies under the screens of those link patterns for which the log tells it."""


class Counted(BaseModel):
    name: str
    count: int


class PropertyValues(BaseModel):
    name: str
    values: list[Counted]
    more: int


class Vocabulary(BaseModel):
    """What the log holds that conditions can be made of; steps, or rows, or journeys of each."""

    screens: list[Counted]
    tabs: list[Counted]
    moves: list[Counted]
    events: list[Counted]
    properties: list[PropertyValues]


class MatchedStep(BaseModel):
    stage: int
    step: int


class KeptView(BaseModel):
    id: int
    name: str
    document: dict[str, Any]
    author: str
    """Who kept it last; empty where nobody signs in."""


class NewName(BaseModel):
    name: str = Field(min_length=1, max_length=200)


class NewKept(NewName):
    document: dict[str, Any]


Figures = TypeVar("Figures")


class GroupView(BaseModel, Generic[Figures]):
    """The figures of one group: a value of a property, or a stretch of time by its first day."""

    value: str
    figures: Figures


class MeasuredView(BaseModel, Generic[Figures]):
    """The figures of the whole scope, and of its groups, the largest or the earliest first.

    `between` has, of two groups, the first less the second, for each share by where it stands.
    """

    whole: Figures
    groups: list[GroupView[Figures]]
    groups_left_out: int
    between: dict[str, Difference] | None
