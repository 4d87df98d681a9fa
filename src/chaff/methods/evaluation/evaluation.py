"""Evaluation: what one model, fitted on the training rows, predicts of rows that were held out, with the full and the kept set."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.methods.evaluation.influence import Moved, interval, moved_by, score_interval
from chaff.metrics import METRICS, Metric, Truth, absolute_loss, full_probabilities, indicators, log_loss
from chaff.models.protocols import Model
from chaff.results.digits import figure, places_for
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.paired_loss import Units
from chaff.stats.stability import share_bounds
from chaff.table.table import Table
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd

FULL, KEPT, NOTHING = "full", "kept", "nothing"
BINS = 10
FEW = 5  # rows of a bin of the calibration, under which its share says little


@dataclass(frozen=True, repr=False)
class Evaluation(Shown):
    """Every metric that fits the target, each with an interval, for the full and the kept set side by side on the same rows.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300, target="accepted"), chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))))
    >>> found = run.evaluate()
    >>> found.frame.columns.tolist()[:3]
    ['full', 'full_low', 'full_high']
    >>> int(found.confusion().to_numpy().sum()) == found.rows
    True
    """

    model: Model
    table: Table = field(repr=False)
    """The held out rows."""
    truth: Truth = field(repr=False)
    predicted: Mapping[str, Floats] = field(repr=False)
    """ "full", "kept" and "nothing": float64 (rows, t), values or class shares."""
    features: Mapping[str, tuple[str, ...]] = field(repr=False)
    reads: int = 1
    """How often these rows have been read."""

    @property
    def rows(self) -> int:
        return len(self.table)

    @property
    def classes(self) -> tuple[str, ...]:
        return self.table.target.classes

    @property
    def units(self) -> Units:
        return self.table.units or Units()

    @cached_property
    def _counts(self) -> Floats | None:
        """What each row counts in class tables, so that all add up to the rows; None where all count alike."""
        w = self.table.weights
        return None if w is None else np.asarray(w * (w.size / w.sum()))

    @cached_property
    def metrics(self) -> tuple[Metric, ...]:
        """Those that fit the target and the model."""
        task, two = self.table.target.task, len(self.classes) == 2
        fits = [m for m in METRICS.values() if m.task in (task, "both") and m.needs in self.model.gives]
        return tuple(m for m in fits if two or not m.two_classes_only)

    @cached_property
    def frame(self) -> pd.DataFrame:
        """One row a metric: full and kept, each with its 95 % bounds; nothing; difference (kept less full on the same rows) with bounds;
        better (which way)."""
        import pandas as pd

        rows: dict[str, dict[str, Any]] = {}
        for m in self.metrics:
            result = {s: moved_by(m, self.truth, self.predicted[s]) for s in (FULL, KEPT)}
            row: dict[str, Any] = {}
            for s, one in result.items():
                _, low, high = score_interval(m, self.truth, one, self.units)
                row |= {s: one.score, f"{s}_low": low, f"{s}_high": high}
            apart = Moved(result[KEPT].score - result[FULL].score, result[KEPT].influence - result[FULL].influence)
            _, low, high = interval(apart, self.units)
            row |= {NOTHING: m.of_predictions(self.truth, self.predicted[NOTHING])}
            if m.least == 0.0 and m.most == 1.0:
                low, high = max(low, -1.0), min(high, 1.0)
            row |= {"difference": apart.score, "difference_low": low, "difference_high": high}
            rows[m.name] = row | {"better": "higher" if m.higher_is_better else "lower"}
        return pd.DataFrame(rows).T.infer_objects().rename_axis("metric")

    # ---- classes

    def _of_classes(self, what: str) -> None:
        if not self.classes:
            raise UsageError(f"{what} is for classes; the target {self.table.target.name} is a number: see residuals")

    def _of(self, which: str) -> Floats:
        if which not in self.predicted:
            raise UsageError(f"which must be one of {', '.join(self.predicted)}, not '{which}'")
        return self.predicted[which]

    def shares(self, which: str = KEPT) -> Floats:
        """float64 (rows, classes): the share given to each class, in the order of ``classes``."""
        self._of_classes("shares")
        return full_probabilities(self._of(which))

    def predicted_classes(self, which: str = KEPT, threshold: float | None = None) -> Ints:
        """int64 (rows,): the class that is said of each row: the likeliest; of two the positive one from a threshold on."""
        self._of_classes("predicted_classes")
        shares = self.shares(which)
        if threshold is None or len(self.classes) > 2:
            if threshold is not None:
                raise UsageError(f"a threshold is for two classes; the target has {len(self.classes)}")
            return np.asarray(shares.argmax(1), np.int64)
        if not 0 <= threshold <= 1:
            raise UsageError(f"threshold must be a share from 0 to 1, not {threshold}")
        return (shares[:, 1] >= threshold).astype(np.int64)

    def confusion(self, which: str = KEPT, threshold: float | None = None, shares: bool = False) -> pd.DataFrame:
        """Classes as they were (rows) against classes as they were said (columns).

        Parameters
        ----------
        which : "kept", "full" or "nothing"
        threshold : float, optional
            Of two classes: the share from which the positive class is said; 0.5, the likelier one, when left out.
        shares : bool
            Shares of each true class in place of counts. With weights rows count by them, adding up to the rows.
        """
        import pandas as pd

        given, true = self.predicted_classes(which, threshold), indicators(self.truth.targets).argmax(1)
        n = len(self.classes)
        counts = np.bincount(true * n + given, self._counts, n * n).reshape(n, n)
        whole = counts.sum(1, keepdims=True)
        values = counts / np.where(whole > 0, whole, 1) if shares else counts
        return pd.DataFrame(values, index=pd.Index(self.classes, name="actual"), columns=pd.Index(self.classes, name="predicted"))

    def thresholds(self, which: str = KEPT, at: tuple[float, ...] = tuple(np.round(np.arange(0.1, 0.91, 0.1), 2))) -> pd.DataFrame:
        """Of two classes, at several thresholds: predicted_positive (rows), recall, false_positive_rate, precision, accuracy."""
        import pandas as pd

        self._of_classes("thresholds")
        rows = {}
        for t in at:
            table = self.confusion(which, t).to_numpy()
            (tn, fp), (fn, tp) = table
            rows[t] = {
                "predicted_positive": tp + fp, "recall": tp / (tp + fn) if tp + fn else 0.0,
                "false_positive_rate": fp / (fp + tn) if fp + tn else 0.0,
                "precision": tp / (tp + fp) if tp + fp else float("nan"), "accuracy": (tp + tn) / table.sum(),
            }  # fmt: skip
        return pd.DataFrame(rows).T.rename_axis("threshold")

    def by_class(self, which: str = KEPT, threshold: float | None = None) -> pd.DataFrame:
        """Of every class: rows, recall and precision."""
        import pandas as pd

        table = self.confusion(which, threshold).to_numpy()
        hit = np.diag(table)
        with np.errstate(invalid="ignore", divide="ignore"):
            result, right = hit / table.sum(1), hit / table.sum(0)
        return pd.DataFrame({"rows": table.sum(1), "recall": result, "precision": right}, index=pd.Index(self.classes, name="class"))

    def calibration(self, which: str = KEPT, bins: int = BINS) -> pd.DataFrame:
        """Predicted shares against what came: per class (of two the positive one) and bin of about equal rows: predicted (mean), came
        (share), came_low, came_high (95 %, Wilson, 1927), rows. With weights means and shares are weighted, and the bounds are those of
        the effective count of rows (Kish, 1965)."""
        import pandas as pd

        self._of_classes("calibration")
        shares, true = self.shares(which), indicators(self.truth.targets)
        rows = []
        for k in [1] if len(self.classes) == 2 else range(len(self.classes)):
            for subset in _equal_bins(shares[:, k], bins):
                w = np.ones(subset.size) if self._counts is None else self._counts[subset]
                if not w.sum() > 0:
                    continue
                predicted, came = (float(np.average(v[subset, k], weights=w)) for v in (shares, true))
                effective = float(w.sum() ** 2 / (w @ w))
                low, high = share_bounds(came * effective, effective)
                row = {"class": self.classes[k], "predicted": predicted, "came": came}
                rows.append(row | {"came_low": low, "came_high": high, "rows": int(subset.size)})
        return pd.DataFrame(rows)

    # ---- every target

    @cached_property
    def losses(self) -> pd.DataFrame:
        """One row a held out row: row (its number in the data, from 0), ids and groups, true, predicted_full and predicted_kept (the value,
        or the class said), for classes share_full and share_kept of the true class, and loss (absolute error, or log loss, of the kept)."""
        import pandas as pd

        t, out = self.table, {}
        for name in [*t.terms.ids, *([t.terms.groups] if t.terms.groups else [])]:
            out[name] = t.source.raw(name).take(t.rows).to_pylist() if name in t.source.arrow.column_names else None
        if not self.classes:
            out["true"] = self.truth.targets[:, 0]
            out |= {f"predicted_{s}": self.predicted[s][:, 0] for s in (FULL, KEPT)}
            loss = absolute_loss(self.truth.targets, self.predicted[KEPT])
        else:
            true = indicators(self.truth.targets).argmax(1)
            out["true"] = [self.classes[k] for k in true]
            out |= {f"predicted_{s}": [self.classes[k] for k in self.predicted_classes(s)] for s in (FULL, KEPT)}
            out |= {f"share_{s}": self.shares(s)[np.arange(true.size), true] for s in (FULL, KEPT)}
            loss = log_loss(self.truth.targets, self.predicted[KEPT])
        return pd.DataFrame(out | {"loss": loss}, index=pd.Index(t.row_numbers, name="row"))

    def worst(self, count: int = 10) -> pd.DataFrame:
        """The held out rows that the kept set predicts worst."""
        return self.losses.sort_values("loss", ascending=False, kind="stable").head(count)

    def residuals(self, which: str = KEPT) -> Floats:
        """float64 (rows,): true less predicted, in the target's unit."""
        if self.classes:
            raise UsageError(f"residuals are for numbers; the target {self.table.target.name} has classes: see confusion and calibration")
        return np.asarray(self.truth.targets[:, 0] - self._of(which)[:, 0])

    @property
    def headline(self) -> str:
        t = self.table.target
        unit = f" ({t.unit})" if t.unit else ""
        sizes = f"full {len(self.features[FULL])}, kept {len(self.features[KEPT])} features"
        return f"{self.model.label} for {t.name}{unit} on {self.rows:,} holdout rows: {sizes}"

    @property
    def notes(self) -> tuple[str, ...]:
        read = "once" if self.reads == 1 else f"{self.reads} times"
        out = [f"fitted on the training rows; the holdout has been read {read}; 95 % CI"]
        if self.table.weights is not None:
            out.append("rows count by their weight in every figure" + (", class tables add up to the rows" if self.classes else ""))
        if self.classes and self.table.target.positive is not None:
            out.append(f"positive class '{self.table.target.positive}'")
        if not self.features[KEPT]:
            out.append("no feature was kept: the kept set is the baseline")
        return tuple(out)

    def label(self, m: Metric) -> str:
        """R² of class probabilities is the Brier skill score."""
        return "Brier skill score" if m.name == "r2" and self.classes else m.label

    def metric_table(self) -> pd.DataFrame:
        """The metrics in words: value with its bounds, full, kept and kept less full."""
        import pandas as pd

        rows = {}
        for m in self.metrics:
            r = self.frame.loc[m.name]
            cells = [with_bounds(r[s], r[f"{s}_low"], r[f"{s}_high"]) for s in (FULL, KEPT, "difference")]
            unit = f" ({self.table.target.unit})" if m.unit_of_target and self.table.target.unit else ""
            rows[self.label(m) + unit] = [*cells, figure(r[NOTHING])]
        return pd.DataFrame(rows, index=[FULL, KEPT, "kept − full", "baseline"]).T.rename_axis("metric")

    def __str__(self) -> str:
        return frame_text(self.headline, self.metric_table(), notes=self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.metric_table(), notes=self.notes)

    def as_plain(self) -> dict[str, Any]:
        out = {
            "model": self.model.label,
            "rows": self.rows,
            "reads": self.reads,
            "metrics": records(self.frame),
            "worst": records(self.worst()),
        }
        if self.classes:
            out |= {"confusion": self.confusion().to_numpy().tolist(), "classes": list(self.classes), "by_class": records(self.by_class())}
            out["calibration"] = records(self.calibration())
        return out


def with_bounds(value: float, low: float, high: float) -> str:
    """`0.440 (0.35 to 0.52)`."""
    if not (low == low and high == high and high > low):
        return figure(value)
    places = min(places_for((high - low) / 4) + 1, 6)
    return f"{value:.{places}f} ({low:.{places}f} to {high:.{places}f})"


def _equal_bins(shares: Floats, bins: int) -> list[Ints]:
    """Rows in bins of about equal count along the shares, equal shares never apart."""
    order = np.argsort(shares, kind="stable")
    wanted = max(1, min(bins, order.size // FEW))
    ordered = shares[order]
    cuts = {int(c) for c in np.searchsorted(ordered, ordered[(np.arange(1, wanted) / wanted * order.size).astype(int)], side="left")}
    return [part for part in np.split(order, sorted(cuts - {0})) if part.size]
