"""Run: a plan on a table, from the holdout that is set aside first to the selection that stands at the end."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from chaff.arrays import Ints
from chaff.decide.final_scores import HONEST_MODES, FinalScores, HonestMode, score_final_sets
from chaff.decide.holdout import HoldoutKey, count_read, holdout_part, set_aside
from chaff.decide.honest import Honest
from chaff.decide.ledger import Ledger
from chaff.decide.named_plans import NAMED, named_plan
from chaff.decide.pins import checked_pins
from chaff.decide.plan import Plan, plan_for, read_plan
from chaff.decide.record import fingerprint, protected_parts, selection_of
from chaff.decide.row_sample import RowSample, row_sample_of
from chaff.decide.run_stages import AfterStage, StagesRun, run_stages
from chaff.decide.run_text import answer_line, final_warnings, score_notes, score_rows
from chaff.decide.selection import Selection
from chaff.decide.selection_parts import HoldoutPart
from chaff.decide.stage_report import StageReport
from chaff.errors import ChaffError, UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import StreamsRows, UsesTarget, name_of
from chaff.folds import make_folds
from chaff.methods.relevance.stage import Relevance
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.stage import Search, SelectionSearch
from chaff.models.named import as_model
from chaff.results.findings import DecoyRate, Findings
from chaff.results.plain import records
from chaff.results.shown import columns_of, lay_out, table_html, terminal_width
from chaff.results.trail import Trail
from chaff.results.verdict import Pin
from chaff.stats.part_differences import SHUFFLES
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Watch, Work, Workers

if TYPE_CHECKING:
    from chaff.methods.evaluation.evaluation import Evaluation
    from chaff.methods.evaluation.everywhere import Everywhere
    from chaff.methods.evaluation.protection import Protection


@dataclass(frozen=True, repr=False)
class Run(Shown):
    """A plan that has been run: every stage's report, the table of final scores, the ledger and the selection."""

    table: Table = field(repr=False)
    """All rows, holdout included."""
    row_sample: RowSample = field(repr=False)
    """The rows that models and searches saw: all, or of a long table some."""
    stages: tuple[StageReport, ...] = field(repr=False)
    final_scores: FinalScores
    ledger: Ledger = field(repr=False)
    selection: Selection
    holdout: Ints = field(repr=False)
    """Holdout rows, as positions in `table`."""
    plan: Plan = field(repr=False)
    """What was run; `plan.to_toml()` writes it down."""
    protected: Protection | None = field(default=None, repr=False)
    """What the kept columns tell of the protected ones; None where none is protected, or nothing could be said."""

    @property
    def train(self) -> Table:
        """The training rows that models and searches saw."""
        return self.row_sample.train

    @property
    def honest(self) -> Honest | None:
        """The score of the whole plan on rows that no choice of it has seen; None where it was left out."""
        return self.final_scores.honest

    @property
    def features(self) -> tuple[str, ...]:
        """The kept features; decoys are none, whatever the run made of them."""
        return tuple(f for f in self.final_scores.kept if f not in self.table.decoys)

    @property
    def decoys(self) -> DecoyRate | None:
        """How many of the table's decoys were kept; None where there are none."""
        return DecoyRate.of(self.table.decoys, self.final_scores.kept) if self.table.decoys else None

    def result(self, stage: str) -> Findings | Trail:
        """What a stage measured, by its name."""
        names = [name_of(r.stage) for r in self.stages]
        if stage not in names:
            raise UsageError(f"the run has no stage '{stage}'; it has {', '.join(names)}.{nearest(stage, names)}")
        return self.stages[names.index(stage)].result

    def evaluate(self, model: Any = None, *, workers: Workers = None, state: bool = True) -> Evaluation:
        """The final model on the rows that were held out, with the full and the kept set side by side.

        Parameters
        ----------
        model : model, str or dict, optional
            The one that decided when left out. Another one reads the holdout once more, which is counted.
        workers : int, optional
        state : bool
            Whether that is counted across runs, as in `chaff.select`.

        Returns
        -------
        Evaluation
            ``frame``: every metric that fits, each with an interval, and kept less full; for classes `confusion`, `thresholds`,
            `calibration`; `residuals` for numbers; `worst` rows.

        Raises
        ------
        UsageError
            When no rows were held out.

        Examples
        --------
        >>> import chaff
        >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
        >>> run.evaluate().frame.index.tolist()
        ['r2', 'rmse', 'mae']
        """
        from chaff.decide.holdout import evaluation_of

        return evaluation_of(self, model, workers, state)

    def holds_everywhere(self, by: str | None = None, *, shuffles: int = SHUFFLES, workers: Workers = None) -> Everywhere:
        """Whether each kept column's relation, and the kept set's score, hold in every group or period.

        Parameters
        ----------
        by : str, optional
            A column of words; the table's order (five periods) or groups when left out.
        shuffles : int
            Deals of the rows among the parts that differences are held against.
        workers : int, optional

        Returns
        -------
        Everywhere
            ``some_only``: columns that work in some parts only; ``behind``: parts where the kept set surely saves less; ``features``,
            ``parts``.

        Raises
        ------
        UsageError, DataError
        """
        from chaff.methods.evaluation.everywhere import everywhere_of

        return everywhere_of(self._search_data(workers), self.final_scores.deciding, self.features, by, shuffles)

    def protection(self, *, workers: Workers = None) -> Protection:
        """How well the kept set predicts the columns that must not be used, which columns carry that, and the score without them.

        Returns
        -------
        Protection

        Raises
        ------
        DataError
            When no column is protected (``open_table(…, protected=[…])``).
        """
        from chaff.methods.evaluation.protection import protection_of

        if self.protected is not None:
            return self.protected
        return protection_of(self._search_data(workers), self.final_scores.deciding, self.features, self.table.terms.protected)

    def report(self, path: str | Path) -> Path:
        """Write one self-contained page that tells the whole run: no network, works from disk, prints (see `chaff.write_report`).

        Parameters
        ----------
        path : str or Path
            Ends in .html.

        Raises
        ------
        UsageError, DataError
        """
        import chaff

        return chaff.write_report(self, path)

    def _search_data(self, workers: Workers) -> SearchData:
        """The training rows and folds of the score, with the kept columns."""
        work, score = Work(self.selection.seed, workers), self.plan.score
        train = self.train.with_features(self.features or self.train.features[:1])
        folds = make_folds(self.train, score.folds_for(self.train), score.repeats_for(self.train), work)
        return SearchData.of(train, Setting(folds, metric=self.final_scores.metric.name, work=work), [self.final_scores.deciding])

    def __str__(self) -> str:
        head, *rows = score_rows(self.final_scores)
        laid = lay_out(columns_of(head, rows, required=head[:2]), terminal_width(), indent=0)
        words = [line for given in score_notes(self) for line in _wrapped(given)]
        return "\n".join(
            [
                *_wrapped(answer_line(self.final_scores)),
                *(w for line in str(self.selection).splitlines() for w in _wrapped(line)),
                *(line.text for line in laid.lines),
                *words,
            ]
        )

    def _repr_html_(self) -> str:
        """The head of the page that `report` writes: the answer, its table, and what to look at."""
        head, *rows = score_rows(self.final_scores)
        words = [*str(self.selection).splitlines(), *final_warnings(self), *score_notes(self)]
        review_rows = [[x.name, "blocked" if x.blocked else "stays", x.figure, x.reason] for x in self.selection.review]
        shown = table_html(answer_line(self.final_scores), head, rows, words)
        return shown + (table_html("Review these features", ["column", "", "figure", "why"], review_rows) if review_rows else "")

    def as_plain(self) -> dict[str, Any]:
        return (
            {"features": list(self.features), "ledger": records(self.ledger.frame), "selection": self.selection.model_dump(mode="json")}
            | ({} if self.honest is None else {"honest": self.honest.as_plain()})
            | ({} if self.decoys is None else {"decoys": self.decoys.as_plain()})
        )


def _wrapped(text: str) -> list[str]:
    return textwrap.wrap(text, terminal_width(), break_on_hyphens=False)


def select(
    table: Table,
    plan: Plan | str | Path | None = None,
    *,
    model: Any = None,
    models: Mapping[str, Any] | None = None,
    holdout: float | None = None,
    rows: int | float | Literal["auto", "all"] | None = None,
    pins: Iterable[Pin] = (),
    seed: int = 0,
    workers: Workers = None,
    watch: Watch | None = None,
    after_stage: AfterStage | None = None,
    honest: HonestMode = "cheap",
    state: bool = True,
) -> Run:
    """Run a plan on a table and decide which features stay.

    Parameters
    ----------
    table : Table
        From `chaff.open_table` or `chaff.open_arrays`.
    plan : Plan, path of a TOML file or name, optional
        `chaff.built_in_plan()` when left out (with more than 5,000 columns ``chaff.named_plan("wide")``); also a name of
        `chaff.named_plan`.
    model : model, str, dict or a class of your own, optional
        The model that you will use in the end; the one of the plan's [score] when left out.
    models : dict, optional
        Models of your own by their names in the plan file, as in `chaff.read_plan`.
    holdout : float, optional
        Share of the rows that is excluded before any analysis (0: none); the value of the plan, 0.2 by default. The latest rows when
        the table has an order, whole groups when it has groups. Rows given to ``open_table(…, holdout=…)`` replace them.
    rows : "auto", "all", int or float below 1, optional
        Training rows that models and searches use; the value of the plan, "auto" by default: all rows up to 50,000, else a sample of
        40,000, which the output reports. A number below 1 is the target SE of a score difference. Sums over rows use all rows.
    pins : iterable of Pin
        From `chaff.pin_keep` and `chaff.pin_drop`; they override every stage.
    seed : int
        Fixes every random draw.
    workers : int or Executor, optional
        Threads, or an executor in place of them; results do not depend on it.
    watch : callable, optional
        ``watch(stage, done, of)`` during the run: (stage, 0, 0) when a stage begins, then its progress.
    after_stage : callable, optional
        ``after_stage(report, ledger so far)`` after each stage.
    honest : "cheap", "full" or "quick"
        How the honest score is made. "cheap": size and model of each fold are chosen from the other folds, with searches that are run
        anyway. "full": the whole plan is rerun in each outer fold (nested CV). "quick": no honest score.
    state : bool
        Whether reads of this holdout are counted across runs, in your state folder (``$XDG_STATE_HOME/chaff``).

    Returns
    -------
    Run
        `features` (selected; none where nothing predicts), `honest` (mean, se, interval, optimism, keep_up), `final_scores`,
        `ledger`, `selection`.

    Raises
    ------
    DataError
        For example when a stage drops all features; the message names the stage and how to relax it.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
    >>> "crumb_score" in run.features
    False
    """
    plan = _plan_with(plan_for(table) if plan is None else _plan_of(plan, models), holdout=holdout, rows=rows, model=model)
    if honest not in HONEST_MODES:
        raise UsageError(f"honest must be one of {', '.join(HONEST_MODES)}, not {honest!r}")
    work = Work(seed, workers, watch)
    taught, held, how = set_aside(table, plan.score.holdout, work)
    sample = _row_sample(plan, table, taught, held, work)
    all_rows, pinned = table.take(taught), checked_pins([*plan.pins, *pins], table)
    setting = _setting_of(plan, sample, all_rows, pinned, work)
    _check_width(plan, sample.train, setting)
    stages_run = run_stages(plan, sample.train, setting, after_stage)
    work.tell("final scores")
    final_scores = score_final_sets(table, sample, held, plan, stages_run, honest)
    text = replace(plan, table=table.terms, pins=tuple(pinned.values()))
    part = _counted(table, pinned, held, holdout_part(table, held, how, 0), state, work)
    ledger = replace(stages_run.ledger, holdout_reads=part.reads, selection_frequencies=_selection_frequencies(stages_run))
    selection = selection_of(table, stages_run, all_rows, text, final_scores, ledger, part, seed)
    run = Run(table, sample, stages_run.reports, final_scores, ledger, selection, held, text)
    return run if honest == "quick" or not (table.terms.protected and run.features) else _with_protection(run, workers)


def _with_protection(run: Run, workers: Workers) -> Run:
    """The run with what its kept columns tell of the protected ones, which its selection keeps."""
    try:
        found = run.protection(workers=workers)
    except ChaffError:
        return run
    return replace(run, protected=found, selection=run.selection.model_copy(update={"protected": protected_parts(found)}))


def _plan_with(plan: Plan, **score: Any) -> Plan:
    """The plan with what the call itself said of scores."""
    return replace(plan, score=replace(plan.score, **{k: v for k, v in score.items() if v is not None}))


def _row_sample(plan: Plan, table: Table, taught: Ints, held: Ints, work: Work) -> RowSample:
    """The rows that models see, by what the stages need of them."""
    passes = plan.score.rows == "all" and table.source.spill is not None and _in_passes(plan, table)
    return row_sample_of(table, taught, held, plan.score.rows, work, passes, _side_by_side(plan))


def _side_by_side(plan: Plan) -> int | None:
    """How many columns a first stage that looks at one at a time lets through; None where they are not counted."""
    first = plan.stages[0]
    if isinstance(first, Relevance) and first.cut is not None:
        top = dict(first.cut).get("top")
        return None if top is None else max(1, int(top))
    return None


def _check_width(plan: Plan, train: Table, setting: Setting) -> None:
    """Raises `DataError` where no stage cuts by the target before a search that cannot take all columns."""
    for stage in plan.stages:
        if isinstance(stage, Search):
            stage.check_width(train, setting)
        if isinstance(stage, UsesTarget) and stage.uses_target():
            return


def _in_passes(plan: Plan, table: Table) -> bool:
    """Whether no stage needs its rows side by side in memory."""
    named = None if plan.score.model is None else as_model(plan.score.model)
    setting = Setting.unfolded(table, model=named, metric=plan.score.metric)
    return all(isinstance(stage, StreamsRows) and stage.in_passes(table, setting) for stage in plan.stages)


def _setting_of(plan: Plan, sample: RowSample, all_rows: Table, pinned: Mapping[str, Pin], work: Work) -> Setting:
    """What the stages share: folds of the rows that models see, and every training row beside them where those are a sample."""
    train, score = sample.train, plan.score
    folds = make_folds(train, score.folds_for(train), score.repeats_for(train), work)
    named = None if score.model is None else as_model(score.model)
    return Setting(folds, named, metric=score.metric, pins=pinned, work=work, whole=all_rows if sample.sampled else None)


def _counted(table: Table, pinned: Mapping[str, Pin], held: Ints, part: HoldoutPart, state: bool, work: Work) -> HoldoutPart:
    """The holdout with this read counted, and what was pinned after an earlier one."""
    fingerprint(table, work)  # by whoever works; the selection asks for it again
    if not part.count:
        return part
    read = count_read(HoldoutKey.of(table, held) if state else None, {f: p.verdict for f, p in pinned.items()})
    return part.model_copy(update={"reads": read.reads, "counted": read.counted, "pinned_after": list(read.after)})


def _plan_of(given: Plan | str | Path, models: Mapping[str, Any] | None) -> Plan:
    if isinstance(given, str) and given in NAMED and not Path(given).exists():
        return named_plan(given)
    plan = read_plan(given, models) if isinstance(given, str | Path) else given
    if not isinstance(plan, Plan):
        raise UsageError(f"plan must be a Plan, from chaff.read_plan(file) or chaff.Plan((stage, …)), not {type(plan).__name__}")
    return plan


def _selection_frequencies(stages_run: StagesRun) -> dict[str, float]:
    last = stages_run.reports[-1].result
    return (
        {f: last.honest_losses.selection_frequency(f) for f in last.offered if f not in last.added}
        if isinstance(last, SelectionSearch)
        else {}
    )
