"""What a pattern means, in plain words."""

from __future__ import annotations

from mossy_trail.core.measures.patterns import TIMES
from mossy_trail.core.model.pattern import (
    Condition,
    Edge,
    Either,
    InOrder,
    Node,
    Repeat,
    Test,
    Within,
)

_SAID = {
    "role": "a {} screen",
    "tab": "in {}",
    "reported": "with {} reported as the tab",
    "move": "come to by {}",
    "mark": "marked {}",
    "region": "in the region {}",
    "event": "with {}",
    "link": "with the link {}",
    "source": "with a link from {}",
    "exit": "where the journey ends: {}",
    "start": "where it starts: {}",
    "wanted": "sent away from {}",
    "below": "with {} right below",
    "stack": "with {} somewhere below",
    "load": "loaded in {}",
    "dwell": "looked at for {}",
    "after_return": "left {} after a return from the background",
    "failed": "with {} failed tries",
    "depth": "at depth {}",
    "repeats": "shown again {} times",
    "refused": "with {} refused moves",
}
_COMPARED = {"=": "", "<": "less than ", ">": "more than ", "<=": "at most ", ">=": "at least "}


def pattern_words(node: Node) -> str:
    """A sentence without its full stop, as in “Splash, and at any time after it SignIn”."""
    if isinstance(node, Condition):
        return condition_words(node)
    if isinstance(node, Edge):
        return "the journey ends" if node.end else "the journey starts"
    if isinstance(node, Either):
        return "either " + ", or ".join(pattern_words(part) for part in node.parts)
    if isinstance(node, Within):
        return f"{_grouped(node.part)} within {_time(str(node.limit))}"
    return _in_order(node) if isinstance(node, InOrder) else _repeated(node)


def _in_order(node: InOrder) -> str:
    said, far = "", False
    for part in node.parts:
        if _is_gap(part):
            far = True
            continue
        joint = ", and at any time after that " if far else ", then at once "
        said += (joint if said else "") + pattern_words(part)
        far = False
    return said or "any steps"


def _is_gap(node: Node) -> bool:
    gap = isinstance(node, Repeat) and (node.least, node.most) == (0, None)
    return gap and isinstance(node.part, Condition) and node.part.is_any  # type: ignore[union-attr]


def _repeated(node: Repeat) -> str:
    if _is_gap(node):
        return "any steps"
    return f"{_grouped(node.part)} {_times(node.least, node.most)}"


def _times(least: int, most: int | None) -> str:
    known: dict[tuple[int, int | None], str] = {
        (0, None): "any number of times, or not at all",
        (1, None): "once or more",
        (0, 1): "or not",
    }
    if (least, most) in known:
        return known[least, most]
    if most is None:
        return f"{least} times or more"
    return f"{least} times" if least == most else f"{least} to {most} times"


def _grouped(node: Node) -> str:
    said = pattern_words(node)
    return said if isinstance(node, (Condition, Edge)) else f"({said})"


def condition_words(condition: Condition) -> str:
    if condition.is_any:
        return "any step"
    said = " or ".join(_all(tests) for tests in condition.any)
    return f"a step that is not {said}" if condition.negated else said


def _all(tests: tuple[Test, ...]) -> str:
    screens = [test for test in tests if test.key == "screen" and not test.negated]
    named = (f"a screen ${test.held}" if test.held else _values(test) for test in screens)
    first = " and ".join(named) or "a step"
    return " ".join([first, *(_test(test) for test in tests if test not in screens)])


def _test(test: Test) -> str:
    if test.key == "screen":
        return f"on another screen than {_values(test)}"
    kind, _, name = test.key.partition(".")
    said = _SAID.get(test.key) or f"whose {'param ' if kind == 'param' else ''}{name} is {{}}"
    if test.key == "link" and test.values == ("any",):
        return "without a link" if test.negated else "with a link"
    told = said.format(_values(test))
    return f"not {told}" if test.negated else told


def _values(test: Test) -> str:
    if test.held:
        return f"${test.held}"
    if test.key in TIMES:
        return _COMPARED[test.operator] + _time(test.values[0])
    words = " or ".join(value.replace("_", " ") if "_" in value else value for value in test.values)
    return _COMPARED[test.operator] + words


def _time(microseconds: str) -> str:
    seconds = int(microseconds) / 1_000_000
    for size, unit in ((86_400, "days"), (3600, "h"), (60, "min"), (1, "s")):
        if seconds >= size and seconds % size == 0:
            return f"{seconds / size:g} {unit}"
    return f"{seconds * 1000:g} ms" if seconds < 1 else f"{seconds:g} s"
