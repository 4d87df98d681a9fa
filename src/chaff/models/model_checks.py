"""What every model promises, checked on small made-up tables: Chaff's own models, and the user's."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.metrics import METRICS, Truth
from chaff.models.forms import learn_form
from chaff.models.named import as_model
from chaff.models.protocols import Model, target_refusal
from chaff.table.opening import open_table
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

TARGETS = {"a number": 0, "two classes": 2, "three classes": 3}
TRAIN, ROWS = 100, 160
CLOSE = 1e-6  # of the spread of the predictions


class Broken(Exception):
    """A promise that does not hold, and how that was seen."""


@dataclass(frozen=True)
class ModelCheck:
    """What came of the checks of one model."""

    model: str
    frame: pd.DataFrame
    """One row a check and target: check, target, result ("passed", "failed", "does not apply"), detail."""

    @property
    def passed(self) -> bool:
        """Whether no check failed."""
        return not (self.frame["result"] == "failed").any()

    def __str__(self) -> str:
        failed = self.frame[self.frame["result"] == "failed"]
        head = f"{self.model}: {(self.frame['result'] == 'passed').sum()} checks passed, {len(failed)} failed"
        alike = failed.groupby(["target", "detail"], sort=False)["check"].agg(list)  # one cause may fail all checks of a target
        return "\n".join([head, *(f"  {target}, {', '.join(checks)}: {detail}" for (target, detail), checks in alike.items())])


def check(model: Model | str | Mapping[str, Any], target: Literal["any", "number", "classes"] = "any") -> ModelCheck:
    """Check what every model promises on made-up tables: with missing values, ties, weights, groups, in any order of rows of the test.

    Parameters
    ----------
    model : model, str or dict
        ``chaff.models.adapt(…)`` of a model of your own, or one of Chaff's.
    target : "any", "number" or "classes"
        The kinds of target that the model is made for.

    Returns
    -------
    ModelCheck
        ``passed``; ``frame`` with a row for each check and kind of target; printed, it names the checks that failed.

    Raises
    ------
    UsageError
        When it is not a model, or `target` is another word.

    Notes
    -----
    The same rows and seed give the same predictions, with any number of workers. A row's prediction does not depend on the other test
    rows. Predictions are finite also for missing values and levels that the training rows do not have; probabilities are from 0 to
    1 and add up to 1. The unit of a number target does not matter, nor does a weight of 1. On a table with a strong signal,
    R² on new rows is above 0, or the accuracy above that of the commonest class.

    Examples
    --------
    >>> import chaff
    >>> print(chaff.models.check("ridge"))
    ridge: 18 checks passed, 0 failed
    """
    import pandas as pd

    if target not in ("any", "number", "classes"):
        raise UsageError(f"target must be any, number or classes, not {target!r}")
    used, kinds = as_model(model), {k: n for k, n in TARGETS.items() if target == "any" or (n == 0) == (target == "number")}
    rows = [(name, target, *_outcome(used, run, classes)) for target, classes in kinds.items() for name, run in CHECKS.items()]
    return ModelCheck(used.label, pd.DataFrame(rows, columns=["check", "target", "result", "detail"]))


def _outcome(model: Model, run: Callable[[Model, int], Iterator[str]], classes: int) -> tuple[str, str]:
    if refusal := target_refusal(model, made_table(classes)):
        return "does not apply", refusal
    try:
        for why in run(model, classes):
            return "does not apply", why
    except Broken as broken:
        return "failed", str(broken)
    except Exception as error:  # a user's own code may raise whatever it likes
        return "failed", f"{type(error).__name__}: {error}"
    return "passed", ""


def made_table(classes: int, scale: float = 1.0, shift: float = 0.0, **roles: Any) -> Table:
    """Numbers with missing values and ties, a binary column, a category with a level that only the last rows have; a strong signal."""
    import pandas as pd

    rng, rows = np.random.default_rng(0), ROWS
    x = rng.normal(size=rows)
    frame = pd.DataFrame({"signal": x, "noise": rng.normal(size=rows), "ties": rng.integers(0, 4, rows).astype(float)})
    frame["gaps"] = np.where(rng.random(rows) < 0.2, np.nan, rng.normal(size=rows))
    frame["whole"] = np.where(np.arange(rows) >= rows - 3, np.nan, rng.normal(size=rows))
    frame["yes"] = np.where(rng.random(rows) < 0.3, "yes", "no")
    frame["level"] = np.where(np.arange(rows) >= rows - 5, "new", rng.choice(["a", "b", "c"], rows))
    frame["mill"], frame["weight"] = rng.integers(0, 8, rows), 1.0
    y = 2.0 * x + (frame["level"] == "a") + 0.5 * rng.normal(size=rows)
    frame["y"] = pd.qcut(y, classes, labels=[f"class {k}" for k in range(classes)]).astype(str) if classes else scale * y + shift
    extra = [name for name, role in (("mill", "groups"), ("weight", "weights")) if role not in roles]
    return open_table(frame, "y", ignore=extra, positive="class 1" if classes == 2 else None, **roles)


def predictions(model: Model, train: Table, test: Table, workers: int = 1) -> Floats:
    """Of a fit on the training rows, for the test rows."""
    work = Work(0, workers)
    learns, reads = (learn_form(form, train, work, f"model {model.label}") for form in (model.learns, model.reads))
    given = np.asarray(model.fit(learns.apply(train), work).predict(reads.apply(test)), float)
    if given.shape != test.targets.shape:
        raise Broken(f"predictions have the shape {given.shape}, not {test.targets.shape}")
    return given


def halves(table: Table) -> tuple[Table, Table]:
    return table.take(np.arange(TRAIN)), table.take(np.arange(TRAIN, len(table)))


def same(one: Floats, two: Floats, what: str) -> None:
    """Raises `Broken` where predictions differ."""
    apart = float(np.abs(one - two).max())
    if not apart <= CLOSE * max(float(np.ptp(one)), CLOSE * float(np.abs(one).max()), 1e-300):
        raise Broken(f"{what}: predictions differ by up to {apart:.3g}")


def finite(model: Model, classes: int) -> Iterator[str]:
    """Missing values, levels that no training row has, ties."""
    given = predictions(model, *halves(made_table(classes)))
    if not np.isfinite(given).all():
        raise Broken(f"{int((~np.isfinite(given)).sum())} predictions are missing or infinite")
    yield from ()


def probabilities(model: Model, classes: int) -> Iterator[str]:
    if not classes:
        yield "for classes only"
    if "probabilities" not in model.gives:
        yield "gives no probabilities"
    given = predictions(model, *halves(made_table(classes)))
    off = np.abs(given.sum(1) - 1).max() if classes > 2 else 0.0
    if given.min() < -CLOSE or given.max() > 1 + CLOSE or off > CLOSE:
        raise Broken(f"probabilities from {given.min():.3g} to {given.max():.3g}, sums off by up to {off:.3g}")


def learns(model: Model, classes: int) -> Iterator[str]:
    train, test = halves(made_table(classes))
    means = train.targets.mean(0)
    truth = Truth(test.targets, np.ones(len(test)), means)
    metric = METRICS["accuracy" if classes else "r2"]
    baseline = metric.of_predictions(truth, np.repeat(means[None, :], len(test), 0))
    reached = metric.of_predictions(truth, predictions(model, train, test))
    if not reached > baseline:
        raise Broken(f"{metric.label} {reached:.3g} on new rows, not above the {baseline:.3g} of the baseline")
    yield from ()


def repeats(model: Model, classes: int) -> Iterator[str]:
    parts = halves(made_table(classes))
    first = predictions(model, *parts)
    same(first, predictions(model, *parts), "the same fit again")
    same(first, predictions(model, *parts, workers=2), "with two workers")
    yield from ()


def row_by_row(model: Model, classes: int) -> Iterator[str]:
    train, test = halves(made_table(classes))
    few = np.arange(0, len(test), 3)
    same(predictions(model, train, test)[few], predictions(model, train, test.take(few)), "a third of the test rows alone")
    yield from ()


def units(model: Model, classes: int) -> Iterator[str]:
    """The unit of a number target, a weight of 1, groups."""
    train, test = halves(made_table(classes))
    plain = predictions(model, train, test)
    if not classes:
        other = made_table(0, scale=1000.0, shift=5000.0)
        same(plain, (predictions(model, *halves(other)) - 5000.0) / 1000.0, "the target in another unit")
    same(plain, predictions(model, *halves(made_table(classes, weights="weight"))), "with a weight of 1")
    if not np.isfinite(predictions(model, *halves(made_table(classes, groups="mill")))).all():
        raise Broken("with groups, predictions are missing or infinite")
    yield from ()


def small(model: Model, classes: int) -> Iterator[str]:
    """One feature, and few rows."""
    table = made_table(classes).with_features(["signal"])
    for train in (np.arange(TRAIN), np.arange(24)):
        if not np.isfinite(predictions(model, table.take(train), table.take(np.arange(TRAIN, ROWS)))).all():
            raise Broken(f"one feature, {train.size} training rows: predictions are missing or infinite")
    yield from ()


CHECKS: dict[str, Callable[[Model, int], Iterator[str]]] = {
    "finite predictions": finite,
    "probabilities": probabilities,
    "better than the baseline": learns,
    "same seed, same predictions": repeats,
    "each row by itself": row_by_row,
    "units, weights and groups": units,
    "one feature, few rows": small,
}
