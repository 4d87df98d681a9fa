"""`chaff importance --chance, --shadow, --stability, --knockoffs`: what chance alone would give, instead of an importance."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.cli.ground import Ground
    from chaff.results.findings import Findings

TESTS = ("chance", "shadow", "stability", "knockoffs")
SHOWN = {
    "chance": ("importance", "chance_largest", "standard_score", "family_p", "q"),
    "shadow": ("worth", "to_beat", "hit_share", "rounds", "to_decide", "rank"),
    "stability": ("chosen_share", "stand_in"),
    "knockoffs": ("difference", "picked_share", "e_value", "apart"),
}
ASKED = {
    "chance": ("importance", "standard score", "family p"),
    "shadow": ("worth", "hit share"),
    "stability": ("chosen share",),
    "knockoffs": ("difference", "picked share"),
}


def options(command: Any) -> Any:
    """The options of the four tests, and decoys."""
    for option in reversed(
        (
            click.option("--chance", type=click.IntRange(3), metavar="N", help="Against N shuffled targets: where chance begins (50)."),
            click.option("--keep", metavar="RULE", help="With --chance: standard deviations beyond chance (3), or maximum, maximum=0.01."),
            click.option("--shadow", is_flag=True, help="Against shuffled twins of every column, over rounds."),
            click.option("--rounds", type=click.IntRange(1), help="With --shadow: at most so many rounds (100)."),
            click.option("--stability", is_flag=True, help="Share of half-samples that choose a column; --top says how many at a time."),
            click.option("--knockoffs", type=float, metavar="Q", help="Against knockoff copies, numbers only; share of false picks (0.1)."),
            click.option("--decoys", type=click.IntRange(1), metavar="N", help="Put N columns of known noise in, and count those kept."),
        )
    ):
        command = option(command)
    return command


def asked_for(said: dict[str, Any]) -> str:
    """Which test, "" for none; options that belong to another are refused."""
    tests = [t for t in TESTS if said[t] not in (None, False)]
    if len(tests) > 1:
        raise click.UsageError(f"one at a time, not {' and '.join('--' + t for t in tests)}")
    test = tests[0] if tests else ""
    for option, needs in (("keep", "chance"), ("rounds", "shadow")):
        if said[option] is not None and test != needs:
            raise click.UsageError(f"--{option} goes with --{needs}")
    if test:
        cuts = ("share", "above", "times_mean", "beyond_chance", *(() if test == "stability" else ("top",)))
        wrong = [o for o in ("against", *cuts) if said[o] is not None]
        if wrong:
            hint = "; say how much with --keep" if test == "chance" else ""
            raise click.UsageError(f"--{wrong[0].replace('_', '-')} does not go with --{test}{hint}")
    return test


def stage_of(test: str, ground: Ground, said: dict[str, Any], model: Any, by: Any) -> Any:
    """The stage of a test, from the plan's with the options on top."""
    from chaff.methods.chance.knockoffs import Knockoffs
    from chaff.methods.chance.shadows import ShadowTest
    from chaff.methods.chance.shuffled_target import ChanceBaseline
    from chaff.methods.chance.stability import Stability

    if test == "chance":
        return ground.stage(ChanceBaseline, by=by, model=model, shuffles=said["chance"], keep=_keep(said["keep"]))
    if test == "shadow":
        return ground.stage(ShadowTest, by=by, model=model, rounds=said["rounds"])
    if test == "knockoffs":
        return ground.stage(Knockoffs, q=said["knockoffs"])
    chooser: Any = None
    if by is not None or model is not None:
        chooser = {"use": "importance"} | ({"by": by} if by is not None else {}) | ({"model": model} if model is not None else {})
    return ground.stage(Stability, stage=chooser, size=said["top"])


def _keep(text: str | None) -> dict[str, float] | None:
    if text is None:
        return None
    name, _, value = text.partition("=")
    try:
        if name.strip() == "maximum":
            return {"maximum": float(value) if value else 0.05}
        return {"beyond_chance": float(text)}
    except ValueError:
        raise click.UsageError(f"--keep {text}: write standard deviations such as 3, or maximum, or maximum=0.01") from None


def show_table(show: Show, found: Findings, everything: bool, limits: list[float]) -> None:
    """The leading columns against chance, and what their limits mean."""
    from chaff.cli.grids import HEAD, grid, notes, rest, title, word
    from chaff.results.digits import cell, figure
    from chaff.results.shown import Cell, Styled
    from chaff.table.shuffle import NOT_JUDGED

    test = found.method
    frame = found.ranked()
    some = frame if everything else frame.head(HEAD)
    title(show, _headline(found))
    columns = [c for c in SHOWN[test] if c in frame.columns and not (frame[c].isna().all() or (frame[c] == "").all())]
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(some.iterrows(), 1):
        cells = [r[c] if isinstance(r[c], str) else _cell(c, float(r[c]), cell, figure) for c in columns]
        rows.append([str(place), str(f), *cells, Styled(NOT_JUDGED, "look") if _not_judged(r) else word(r["verdict"])])
    heads = [c.replace("_", " ") for c in columns]
    grid(show, ["", "feature", *heads, "verdict"], rows, asked=("", "feature", *ASKED[test]), names=2)
    rest(show, len(some), len(frame))
    notes(show, found.notes)
    if test == "chance":
        _limits(show, found, limits)
    if test == "stability":
        _thresholds(show, found)


def _cell(column: str, value: float, cell: Any, figure: Any) -> str:
    if value != value:
        return ""
    if column in ("p", "q", "family_p"):
        return str(cell(column, value))
    if column in ("rank", "rounds", "to_decide"):
        return "never" if value == float("inf") else f"{value:,.0f}"
    return str(figure(value, 3))


def _not_judged(row: Any) -> bool:
    """Whether groups keep a test from saying anything of a column."""
    from chaff.table.shuffle import NOT_JUDGED

    return bool(row.get("not_judged", False)) or row.get("decided") == NOT_JUDGED


def _headline(found: Findings) -> str:
    from chaff.table.shuffle import NOT_JUDGED

    kept, blind = int((found.frame["verdict"] == "keep").sum()), sum(_not_judged(r) for _, r in found.frame.iterrows())
    s, of = found.settings, len(found.frame) - blind
    unjudged = f", {blind} more {NOT_JUDGED}" if blind else ""
    if found.method == "chance":
        return f"{kept} of {of} features are beyond chance ({_rule(s['keep'])}){unjudged}, by {s['by']} against {s['shuffles']} shuffles"
    if found.method == "shadow":
        open_now = int((found.frame["verdict"] == "look").sum()) - blind
        more = f", {open_now} undecided" if open_now else ""
        return f"{kept} of {of} features beat their shuffled twins{more}{unjudged}, {s['rounds']} rounds"
    if found.method == "stability":
        return f"{kept} of {of} features are chosen in {s['threshold']:g} of the halves or more"
    return f"{kept} of {of} features beat their knockoff copies at q = {s['q']:g}"


def _rule(keep: dict[str, float] | None) -> str:
    if keep is None:
        return "nothing was asked to be dropped"
    ((rule, value),) = keep.items()
    return f"{value:g} standard deviations" if rule == "beyond_chance" else f"family p {value:g} or less"


def _limits(show: Show, found: Findings, limits: list[float]) -> None:
    from chaff.cli.grids import grid, title
    from chaff.methods.chance.shuffled_target import limits_table

    table = found.more["limits"]
    if limits:
        table = limits_table(found.frame["standard_score"].to_numpy(float), found.more["chance_scores"].T.to_numpy(float), sorted(limits))
    title(show, "What each limit would keep, and what chance alone would")
    rows = [[f"{k:g}", str(int(r["beyond"])), f"{r['by_chance']:.2f}", str(int(r["by_chance_at_most"]))] for k, r in table.iterrows()]
    grid(show, ["standard deviations", "beyond", "by chance", "most in a shuffle"], rows, names=0)


def _thresholds(show: Show, found: Findings) -> None:
    from chaff.cli.grids import grid, title

    title(show, "Thresholds side by side")
    rows = [
        [f"{t:g}", str(int(r["chosen"])), f"{r['accidental_at_most']:.2f}", f"{r['accidental_plain_halves']:.2f}"]
        for t, r in found.more["thresholds"].iterrows()
    ]
    grid(show, ["threshold", "chosen", "by accident at most", "… by plain halves"], rows, names=0)


def draw(found: Findings, option: str) -> Any:
    """The figure of a test; with --close-up its decoys among the columns where there are any."""
    from chaff.plots.chance_figures import DRAWN, decoys_among

    return decoys_among(found) if option == "close_up" and "planted" in found.settings else DRAWN[found.method](found)
