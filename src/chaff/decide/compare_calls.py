"""Methods, preparations and models compared on the same folds, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from chaff.decide.one_stage import on_offer
from chaff.decide.stages import STAGES, make_stage
from chaff.errors import UnknownColumn, UsageError, nearest
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import Folds, make_folds
from chaff.methods.comparing.comparison import RANDOM, Comparison
from chaff.methods.comparing.learned_sets import LearnedSets, key_of
from chaff.methods.comparing.learning import Learning, learn
from chaff.methods.comparing.method import MeanRank, StageMethod, StrategyMethod, Vote
from chaff.methods.comparing.scale_comparison import SCALES, TRANSFORMS, Preparations, check_transforms, preparations_of
from chaff.methods.comparing.two_models import TwoModels
from chaff.methods.comparing.two_models import two_models as two_models_of
from chaff.methods.importance.stage import Importance
from chaff.methods.importance.way import WAYS, as_order
from chaff.methods.relevance.catalogue import STATISTICS, our_name
from chaff.methods.relevance.stage import Relevance
from chaff.methods.search.lens import sizes_to_score
from chaff.methods.search.strategy import STRATEGIES, as_strategy
from chaff.models.named import MODELS, as_model
from chaff.models.protocols import Model
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.work import Watch, Work, Workers

USUAL = ("leading", "mrmr_difference", "lasso", "permutation", "impurity", "forward")
PENALISED = ("lasso", "elastic net", "group lasso")
EXAMPLES = 'a statistic ("pearson_r", "leading"), "lasso", a way of importance ("permutation"), a strategy ("forward"), or a stage'


def compare(
    table: Table, methods: Sequence[Any] | Mapping[str, Any] = USUAL, model: Model | str | Mapping[str, Any] = "ridge", *,
    sizes: Sequence[int] | None = None, metric: str | None = None, folds: int | Folds = 5, repeats: int = 1, vote: int | None = None,
    truth: Iterable[str] | None = None, seconds: float | None = None, pins: Iterable[Pin] = (), features: Sequence[str] | None = None,
    journal: str | Path | None = None, seed: int = 0, workers: Workers = None, watch: Watch | None = None,
) -> Comparison:  # fmt: skip
    """Which method keeps which columns, and what its sets are worth: every method learned inside each training fold, its set of each
    size scored by the one final model on the rows left out.

    Parameters
    ----------
    table : Table
    methods : list, or dict of label to method
        A filter statistic by its name ("pearson_r", "mutual_information", "mrmr_difference", …; "leading" for what fits the kinds),
        "lasso", "elastic net" or "group lasso" by their coefficients, a way of importance ("permutation", "impurity", …, of a forest), a
        strategy of search with the final model ("forward", ``chaff.Genetic(population=30)``), or any stage
        (``chaff.Importance("boosting", by="shapley")``, ``chaff.TwinTest(rounds=24)``, ``{"use": "stability", …}``).
    model : model, str or dict
        The final model.
    sizes : list of int, optional
        Sizes that are cut to; all up to 12 and then each a sixth larger when left out.
    metric : str, optional
    folds : int or Folds
    repeats : int
    vote : int, optional
        A feature is in the vote's set when so many methods keep it; half of them (and one) when left out.
    truth : list of str, optional
        The features that matter, where that is known (``chaff.demo.truth()``): counts true_positives,
        false_negatives and false_positives.
    seconds : float, optional
        What it may take, judged by the first fold.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in are in every set.
    features : list of str, optional
    journal : str or Path, optional
        File that stores what each method learned in each fold: after an interruption, the same call goes on from there.
    seed, workers : int
    watch : callable, optional

    Returns
    -------
    Comparison
        ``frame``: a row a method; ``curves``: score by size of all, random sets among them; `at`: any other size or share, nothing learned
        again; ``kept``, ``agreement``, ``scores``.

    Raises
    ------
    UsageError, DataError, ModelError

    Notes
    -----
    A method that fails in a fold is said so, and the rest goes on. Stability of its sets over the folds: Nogueira, Sechidis and Brown,
    2018. A choice of method from this table is a choice: what the chosen one is worth on rows that nobody has seen, `chaff.select` says.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "falling_number_s", "lab_temp_c", "straw_pct"])
    >>> found = chaff.compare(lots, {"r": "pearson_r", "lasso": "lasso", "search": chaff.Forward()}, sizes=[1, 2, 3])
    >>> found.kept(2).columns.tolist()
    ['r', 'lasso', 'search', 'vote', 'mean rank']
    """
    return compare_from(
        None, table, methods, model, sizes=sizes, metric=metric, folds=folds, repeats=repeats, vote=vote, truth=truth, seconds=seconds,
        pins=pins, features=features, journal=journal, seed=seed, workers=workers, watch=watch,
    )  # fmt: skip


def compare_from(
    saved: Mapping[str, Any] | None, table: Table, methods: Sequence[Any] | Mapping[str, Any], model: Model | str | Mapping[str, Any], *,
    sizes: Sequence[int] | None, metric: str | None, folds: int | Folds, repeats: int, vote: int | None, truth: Iterable[str] | None,
    seconds: float | None, pins: Iterable[Pin], features: Sequence[str] | None = None, journal: str | Path | None, seed: int,
    workers: Workers, watch: Watch | None,
) -> Comparison:  # fmt: skip
    """`compare`, from what a saved comparison has learned.

    saved : the part "learned" of its file; nothing else is learned then.

    Raises
    ------
    DataError
        When the saved one is of other data.
    """
    offered, _, pinned = on_offer(table, pins, features)
    used, made = as_model(model), as_methods(methods)
    work = Work(seed, workers, watch)
    parts = folds if isinstance(folds, Folds) else make_folds(offered, folds, repeats, work)
    scorer = SubsetScorer(offered, used, metric, parts, work)
    wanted = _sizes(sizes, len(offered.features), len(pinned))
    known = _known_truth(truth, table)
    further: list[Vote | MeanRank] = [Vote(vote or len(made) // 2 + 1), MeanRank()] if len(made) > 1 else []
    if vote is not None and not 1 <= vote <= len(made):
        raise UsageError(f"vote must be from 1 to the {len(made)} methods, not {vote}")
    key = key_of(offered, parts, work, used, scorer.metric.name, sorted(pinned))
    if saved is not None:
        kept = LearnedSets.saved(saved, key)
    else:
        kept = LearnedSets.open(journal, key) if journal else LearnedSets(key)
    learned = learn(Learning(offered, used, metric, parts, pinned, work), made, further, seconds, kept)
    notes = (f"{parts.how}, {scorer.metric.label}; every method learned inside each training fold", *learned.notes)
    splits = tuple(range(parts.count))
    return Comparison(scorer, splits, learned.inside, learned.whole, wanted, pinned, known, notes, kept)


def try_scales(
    table: Table, model: Model | str | Mapping[str, Any] = "ridge", *, scales: Sequence[str] = SCALES,
    transforms: Sequence[str] = ("none",), folds: int | Folds = 5, repeats: int = 1, features: Sequence[str] | None = None, seed: int = 0,
    workers: Workers = None, watch: Watch | None = None,
) -> Preparations:  # fmt: skip
    """Scales of the columns and transforms of the target side by side, on the same folds, errors in the target's own units.

    Parameters
    ----------
    table : Table
    model : model, str or dict
        Least squares, ridge, nearest neighbours and your own models (``chaff.models.adapt``) take notice of scales; trees do not, and
        the others standardise their columns themselves.
    scales : list of "standard", "min-max", "robust", "log", "rank-normal", "none"
        Mean and standard deviation; least and largest value; median and quartiles; logarithm of 1 + the value less the least; normal
        score of its place among the training rows (Blom, 1958); as they are. Learned on training rows.
    transforms : list of "none", "log", "square root", "rank-normal"
        Of a number target; predictions come back to its own scale as means (Duan, 1983).
    folds : int or Folds
    repeats : int
    features : list of str, optional
    seed, workers, watch : as everywhere

    Returns
    -------
    Preparations

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct"])
    >>> chaff.try_scales(lots, "ridge", transforms=["none", "log"]).frame["transform"].tolist()[:2]
    ['none', 'log']
    """
    check_preparations(table, scales, transforms)
    offered, _, _ = on_offer(table, (), features)
    work = Work(seed, workers, watch)
    parts = folds if isinstance(folds, Folds) else make_folds(offered, folds, repeats, work)
    return preparations_of(offered, as_model(model), list(dict.fromkeys(scales)), list(dict.fromkeys(transforms)), parts, work)


def check_preparations(table: Table, scales: Sequence[str], transforms: Sequence[str]) -> None:
    """Refuse what there is not, and what does not fit the target, before any work.

    Raises
    ------
    UsageError
    """
    for given, known, what in ((scales, SCALES, "scale"), (transforms, TRANSFORMS, "transform")):
        wrong = [s for s in given if s not in known]
        if wrong or not given or isinstance(given, str):
            shown = f"unknown {what} '{wrong[0]}'" if wrong and not isinstance(given, str) else f"{what}s must be a list"
            raise UsageError(f"{shown}; choose from {', '.join(known)}.{nearest(str(wrong[0]), known) if wrong else ''}")
    if any(t != "none" for t in transforms):
        check_transforms(table, transforms)


def two_models(
    table: Table, first: Model | str | Mapping[str, Any] = "ridge", second: Model | str | Mapping[str, Any] = "forest", *,
    metric: str | None = None, folds: int | Folds = 5, pins: Iterable[Pin] = (), features: Sequence[str] | None = None, seed: int = 0,
    workers: Workers = None, watch: Watch | None = None,
) -> TwoModels:  # fmt: skip
    """Which features two models keep: shared, only here, and what each loses with the other's set.

    Parameters
    ----------
    table : Table
    first, second : model, str or dict
    metric : str, optional
    folds : int or Folds
        Inside every training fold each model's search is rerun, so that no set has seen the rows that it is scored on.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers, watch : as everywhere

    Returns
    -------
    TwoModels
        ``shared``, ``only``, ``kept``, ``frame``.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    >>> chaff.two_models(lots, "ridge", "tree").frame.columns.tolist()
    ['own', 'other', 'all', 'nothing', 'loss', 'loss_se']
    """
    offered, _, pinned = on_offer(table, pins, features)
    work = Work(seed, workers, watch)
    parts = folds if isinstance(folds, Folds) else make_folds(offered, folds, 1, work)
    a, b = as_model(first), as_model(second)
    return two_models_of(Learning(offered, a, metric, parts, pinned, work), (a, b))


def as_methods(given: Sequence[Any] | Mapping[str, Any]) -> list[StageMethod | StrategyMethod]:
    """Methods from what the user said, each with a label of its own.

    Raises
    ------
    UsageError
        All that is wrong in one go.
    """
    named = list(given.items()) if isinstance(given, Mapping) else [("", m) for m in ([given] if isinstance(given, str) else given)]
    if not named:
        raise UsageError(f"compare needs a method: {EXAMPLES}")
    out: list[StageMethod | StrategyMethod] = []
    problems: list[str] = []
    taken = {"vote", "mean rank", RANDOM, "all features", "nothing"}
    for label, what in named:
        try:
            method = _as_method(label, what)
        except UsageError as error:
            problems.append(str(error))
            continue
        name, count = method.label, 2
        while name in taken:
            name, count = f"{method.label} {count}", count + 1
        taken.add(name)
        out.append(replace(method, label=name))
    if problems:
        raise UsageError("; ".join(problems))
    return out


def _as_method(label: str, given: Any) -> StageMethod | StrategyMethod:
    if isinstance(given, str):
        return _by_name(label or given, given)
    if isinstance(given, Mapping) and "use" in given:
        return StageMethod(label or _label_of(given), _stage(given))
    if isinstance(given, Mapping):
        return StrategyMethod(label or str(given.get("name")), as_strategy(given))
    if hasattr(given, "judge") and hasattr(given, "verdicts"):
        by = getattr(given, "by", "")
        return StageMethod(label or (f"{given.use} ({getattr(by, 'name', by)})" if by else given.use), given)
    if hasattr(given, "moves"):
        return StrategyMethod(label or given.name, as_strategy(given))
    raise UsageError(f"{given!r} is no method: {EXAMPLES}")


def _label_of(given: Mapping[str, Any]) -> str:
    """The name that was given, else the stage with what sets it apart: `importance: forest, permutation`."""
    if given.get("name"):
        return str(given["name"])
    apart = [given[k] for k in ("model", "by", "statistics") if k in given]
    names = [str(v.get("name", v)) if isinstance(v, Mapping) else ", ".join(map(str, v)) if isinstance(v, list) else str(v) for v in apart]
    return str(given["use"]) + (f": {', '.join(names)}" if names else "")


def _by_name(label: str, name: str) -> StageMethod | StrategyMethod:
    statistics, name = list(STATISTICS), our_name(name)
    if name == "leading":
        return StageMethod(label, Relevance("leading"))
    if name in statistics:
        return StageMethod(label, Relevance([name], by=name))
    if name in PENALISED:
        return StageMethod(label, Importance(name, as_order("coefficient")))
    if name in WAYS.choices:
        return StageMethod(label, Importance("ridge" if name == "coefficient" else "forest", as_order(name)))
    if name in STRATEGIES.choices:
        return StrategyMethod(label, as_strategy(name))
    if name in STAGES:
        return StageMethod(label, _stage({"use": name}))
    known = ["leading", *statistics, *PENALISED, *WAYS.choices, *STRATEGIES.choices, *STAGES]
    hint = nearest(name, known)
    more = f" For a model say its importance: chaff.Importance({name!r})." if name in MODELS.choices and not hint else ""
    raise UsageError(f"unknown method '{name}': {EXAMPLES}.{hint}{more}")


def _stage(given: Mapping[str, Any]) -> Any:
    use = str(given["use"])
    if use not in STAGES or use == "screen":
        known = ", ".join(s for s in STAGES if s != "screen")
        raise UsageError(f"'{use}' is not a stage that measures features against the target; choose from {known}")
    problems: list[str] = []
    made = make_stage(STAGES[use], {k: v for k, v in given.items() if k != "use"}, f"method {use}", problems)
    if made is None:
        raise UsageError("; ".join(problems))
    return made


def _sizes(sizes: Sequence[int] | None, features: int, pinned: int) -> tuple[int, ...]:
    if sizes is None:
        return tuple(s for s in sizes_to_score(features) if s >= max(1, pinned))
    wrong = [s for s in sizes if isinstance(s, bool) or s != int(s) or not 1 <= s <= features]
    if wrong or not len(sizes):
        raise UsageError(f"sizes must be whole numbers from 1 to the {features} features there are, not {list(sizes)}")
    return tuple(sorted({int(s) for s in sizes}))


def _known_truth(truth: Iterable[str] | None, table: Table) -> frozenset[str] | None:
    if truth is None:
        return None
    known = frozenset([truth] if isinstance(truth, str) else map(str, truth))
    for name in sorted(known - table.source.known):
        raise UnknownColumn(f"column '{name}' (in truth) is not in {table.label}.{nearest(name, table.features)}")
    return known & frozenset(table.features)
