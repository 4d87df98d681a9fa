"""`chaff importance --chance, --twins, --stability, --knockoffs`: what chance alone would give, instead of an importance."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import OWN, in_group
from chaff.cli.stage_options import stage_options

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.results.findings import Findings

TESTS = ("chance", "twins", "stability", "knockoffs")
SHOWN = {
    "chance": ("importance", "chance_largest", "standard_score", "family_p", "q"),
    "twins": ("worth", "to_beat", "beaten_share", "rounds", "to_decide", "rank"),
    "stability": ("selection_frequency", "interchangeable_with"),
    "knockoffs": ("difference", "selection_frequency", "e_value", "apart"),
}
REQUIRED_COLUMNS = {
    "chance": ("importance", "standard_score", "family_p"),
    "twins": ("worth", "beaten_share"),
    "stability": ("selection_frequency",),
    "knockoffs": ("difference", "selection_frequency"),
}
HEADS = {
    "chance_largest": "largest permuted value",
    "standard_score": "z-score",
    "family_p": "FWER p",
    "worth": "importance (permuted copies = 1)",
    "to_beat": "threshold",
    "beaten_share": "share of rounds above",
    "rounds": "rounds done",
    "to_decide": "rounds still needed",
    "rank": "rank by share",
    "interchangeable_with": "interchangeable with",
}


def options(command: Any) -> Any:
    """The options of the four tests, and decoys."""
    return in_group(
        OWN,
        click.option("--chance", type=click.IntRange(3), metavar="N", help="Compare with N permutations of the target (50)."),
        click.option("--keep", metavar="RULE", help="With --chance: threshold in standard deviations (3), or maximum, maximum=0.01."),
        click.option("--twins", is_flag=True, help="Twin test: compare with permuted copies of every feature, over rounds."),
        click.option("--stability", is_flag=True, help="Selection frequency over half-samples. --top sets how many at a time."),
        click.option("--knockoffs", type=float, metavar="Q", help="Knockoff selection, numbers only; target false-discovery rate (0.1)."),
        click.option("--decoys", type=click.IntRange(1), metavar="N", help="Add N noise features (decoys) and count those kept."),
        stage_options("chance.shuffled_target", "ChanceBaseline", hand=("shuffles", "trees", "alpha"), needs="--chance"),
        stage_options("chance.twin_test", "TwinTest", hand=("alpha",), needs="--twins"),
        stage_options("chance.stability", "Stability", hand=("size",), needs="--stability"),
        stage_options("chance.knockoffs", "Knockoffs", hand=("q",), needs="--knockoffs"),
    )(command)


def chosen_test(given: dict[str, Any]) -> str:
    """Which test, "" for none; options that belong to another are refused."""
    tests = [t for t in TESTS if given[t] not in (None, False)]
    if len(tests) > 1:
        raise click.UsageError(f"{' and '.join('--' + t for t in tests)} cannot be combined")
    test = tests[0] if tests else ""
    if given["keep"] is not None and test != "chance":
        raise click.UsageError("--keep goes with --chance")
    if test:
        cuts = ("share", "above", "times_mean", "significant", *(() if test == "stability" else ("top",)))
        wrong = [o for o in ("against", *cuts) if given[o] is not None]
        if wrong:
            hint = "; set the threshold with --keep" if test == "chance" else ""
            raise click.UsageError(f"--{wrong[0].replace('_', '-')} does not go with --{test}{hint}")
    return test


def stage_of(test: str, context: CommandContext, given: dict[str, Any], model: Any, by: Any) -> Any:
    """The stage of a test, from the plan's with the options on top."""
    from chaff.methods.chance.knockoffs import Knockoffs
    from chaff.methods.chance.shuffled_target import ChanceBaseline
    from chaff.methods.chance.stability import Stability
    from chaff.methods.chance.twin_test import TwinTest

    if test == "chance":
        return context.stage(ChanceBaseline, by=by, model=model, shuffles=given["chance"], keep=_keep(given["keep"]))
    if test == "twins":
        return context.stage(TwinTest, by=by, model=model)
    if test == "knockoffs":
        return context.stage(Knockoffs, q=given["knockoffs"])
    chooser: Any = None
    if by is not None or model is not None:
        chooser = {"use": "importance"} | ({"by": by} if by is not None else {}) | ({"model": model} if model is not None else {})
    return context.stage(Stability, stage=chooser, size=given["top"])


def _keep(text: str | None) -> dict[str, float] | None:
    if text is None:
        return None
    name, _, value = text.partition("=")
    try:
        if name.strip() == "maximum":
            return {"maximum": float(value) if value else 0.05}
        return {"standard_deviations": float(text)}
    except ValueError:
        raise click.UsageError(f"--keep {text}: write standard deviations such as 3, or maximum, or maximum=0.01") from None


def show_table(show: Show, result: Findings, everything: bool, limits: list[float]) -> None:
    """The leading columns against chance, and what their limits mean."""
    from chaff.cli.tables import HEAD, grid, notes, rest, title, word
    from chaff.results.digits import cell, figure
    from chaff.results.shown import Cell, Styled
    from chaff.table.shuffle import NOT_JUDGED

    test = result.method
    frame = result.ranked()
    subset = frame if everything else frame.head(HEAD)
    title(show, _headline(result))
    columns = [c for c in SHOWN[test] if c in frame.columns and not (frame[c].isna().all() or (frame[c] == "").all())]
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(subset.iterrows(), 1):
        cells = [r[c] if isinstance(r[c], str) else _cell(c, float(r[c]), cell, figure) for c in columns]
        rows.append([str(place), str(f), *cells, Styled(NOT_JUDGED, "review") if _not_judged(r) else word(r["verdict"])])
    heads = [HEADS.get(c, c.replace("_", " ")) for c in columns]
    required = [HEADS.get(c, c.replace("_", " ")) for c in REQUIRED_COLUMNS[test]]
    grid(show, ["rank", "feature", *heads, "verdict"], rows, required=("rank", "feature", *required), names=2)
    rest(show, len(subset), len(frame))
    notes(show, result.notes)
    if test == "chance":
        _limits(show, result, limits)
    if test == "stability":
        _thresholds(show, result)


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


def _headline(result: Findings) -> str:
    from chaff.table.shuffle import NOT_JUDGED

    kept, blind = int((result.frame["verdict"] == "keep").sum()), sum(_not_judged(r) for _, r in result.frame.iterrows())
    s, of = result.settings, len(result.frame) - blind
    unjudged = f", {blind} more {NOT_JUDGED}" if blind else ""
    if result.method == "chance":
        return f"{kept} of {of} features are significant ({_rule(s['keep'])}){unjudged}, by {s['by']} against {s['shuffles']} permutations"
    if result.method == "twins":
        open_now = int((result.frame["verdict"] == "review").sum()) - blind
        more = f", {open_now} undecided" if open_now else ""
        return f"{kept} of {of} features beat the best permuted copy{more}{unjudged}, {s['rounds']} rounds"
    if result.method == "stability":
        return f"{kept} of {of} features are selected in at least {s['threshold']:g} of the half-samples"
    return f"{kept} of {of} features beat their knockoff copies at q = {s['q']:g}"


def _rule(keep: dict[str, float] | None) -> str:
    if keep is None:
        return "no cut was asked for"
    ((rule, value),) = keep.items()
    return f"{value:g} standard deviations" if rule == "standard_deviations" else f"FWER p {value:g} or less"


def _limits(show: Show, result: Findings, limits: list[float]) -> None:
    from chaff.cli.tables import grid, title
    from chaff.methods.chance.shuffled_target import limits_table

    table = result.more["limits"]
    if limits:
        table = limits_table(result.frame["standard_score"].to_numpy(float), result.more["chance_scores"].T.to_numpy(float), sorted(limits))
    title(show, "Features kept at each threshold")
    rows = [[f"{k:g}", str(int(r["beyond"])), f"{r['by_chance']:.2f}", str(int(r["by_chance_at_most"]))] for k, r in table.iterrows()]
    grid(show, ["threshold (SD)", "features above", "expected under permutation", "maximum over permutations"], rows, names=0)


def _thresholds(show: Show, result: Findings) -> None:
    from chaff.cli.tables import grid, title

    title(show, "Thresholds side by side")
    rows = [
        [f"{t:g}", str(int(r["chosen"])), f"{r['accidental_at_most']:.2f}", f"{r['accidental_plain_halves']:.2f}"]
        for t, r in result.more["thresholds"].iterrows()
    ]
    grid(
        show,
        ["threshold", "features selected", ("false selections, bound (complementary pairs)"), "bound (plain half-samples)"],
        rows,
        names=0,
    )
