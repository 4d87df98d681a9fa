"""Cuts: rules that turn findings into those who stay. Each is data, so that a plan, a call and a command say the same."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, get_args

from chaff.errors import UsageError, nearest

if TYPE_CHECKING:
    import pandas as pd

Rule = Literal["top", "share", "above", "below", "times_mean", "significant"]


@dataclass(frozen=True)
class Cut:
    """One rule and its number.

    top : the best so many.  share : the best share of the features, rounded up.  above, below : by value.
    times_mean : at least so many times the mean.  significant : whose adjusted p is below, where there is a test.
    """

    rule: Rule
    value: float

    @classmethod
    def from_mapping(cls, spec: Mapping[str, float]) -> Cut:
        """`{"top": 40}` as in a plan."""
        rules = get_args(Rule)
        if len(spec) != 1:
            raise UsageError(f"a cut is one rule and its number, such as {{ top = 40 }}; rules are {', '.join(rules)}")
        ((rule, value),) = spec.items()
        if rule not in rules:
            raise UsageError(f"unknown cut '{rule}'; choose from {', '.join(rules)}.{nearest(rule, rules)}")
        if value != value:
            raise UsageError(f"cut {rule}: a threshold must be a number, not {value}")
        return cls(rule, float(value))  # type: ignore[arg-type]

    def stays(self, values: pd.Series, higher_is_better: bool = True) -> pd.Series:
        """Which features stay; one without a value goes."""
        import pandas as pd

        if not pd.api.types.is_numeric_dtype(values.dtype):
            raise UsageError(f"'{values.name}' holds words, which no limit can be set on")
        known = values.notna()
        if self.rule == "above":
            return known & (values > self.value)
        if self.rule in ("below", "significant"):
            return known & (values < self.value)
        if self.rule == "times_mean":
            return known & (values >= self.value * values.mean())
        count = int(self.value) if self.rule == "top" else math.ceil(self.value * len(values))
        best = values[known].sort_values(ascending=not higher_is_better, kind="stable").index[:count]
        return values.index.to_series().isin(best)

    def __str__(self) -> str:
        words = {"top": "top {:g}", "share": "best {:.0%}", "above": "above {:g}", "below": "below {:g}"}
        if self.rule == "significant":
            return f"significant at {self.value:g}"
        return words.get(self.rule, "{:g} times the mean").format(self.value)
