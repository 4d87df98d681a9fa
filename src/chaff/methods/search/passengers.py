"""Passengers: columns that went since they repeat one that stays, and what is lost without them."""

from __future__ import annotations

from dataclasses import dataclass

from chaff.errors import ChaffError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.search_data import SearchData, Set
from chaff.models.protocols import Model
from chaff.results.digits import score, signed
from chaff.results.score import corrected_error


@dataclass(frozen=True)
class Passenger:
    """A column that went since it repeats one that stays."""

    stays: str
    gain: float
    """What the score gains without the repeats of the kept columns, in the metric's units."""
    se: float

    def words(self, label: str) -> str:
        lost = "nothing is lost" if self.gain >= -self.se else "little is lost"
        return f"near-duplicate of {self.stays}, which is kept; without it {lost}: {label} {signed(self.gain, self.se)} ± {score(self.se)}"


def passengers_of(chosen: Set, model: Model, data: SearchData) -> dict[str, Passenger]:
    """Repeats of chosen columns that stay out, with what a refit with all of them says."""
    repeats = {f: stays for f, stays in data.repeats(None).items() if f not in chosen and stays in chosen}
    if not repeats:
        return {}
    table = data.table.with_features(tuple(f for f in data.table.features if f in chosen or f in repeats))
    scorer = SubsetScorer(table, model, data.metric.name, data.usable, data.work)
    try:
        few, more = scorer.many([chosen, chosen | set(repeats)])
    except ChaffError:  # a model that cannot take them together
        return {}
    d = data.sign * (few.values - more.values)
    return {f: Passenger(stays, float(d.mean()), corrected_error(d, data.folds.test_share)) for f, stays in repeats.items()}
