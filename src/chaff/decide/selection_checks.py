"""What the free parts of a selection's file, its scores and its plan, must hold for whoever reads them."""

from __future__ import annotations

import base64
import binascii
import zlib
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from chaff.metrics import METRICS


class Free(BaseModel):
    """May hold more than what is checked."""

    model_config = ConfigDict(extra="allow", allow_inf_nan=False, strict=True)


class OneScore(Free):
    metric: str
    on: str
    mean: float
    se: float = 0.0
    model: str = ""


class SetScores(Free):
    features: list[str] = Field(default_factory=list)
    scores: list[OneScore] = Field(default_factory=list)


class Answer(Free):
    answer: Literal["keeps up", "worse", "cannot tell"] = "cannot tell"


class HonestScore(Free):
    metric: str
    mean: float | None = None
    se: float | None = None
    keep_up: Answer = Answer()


class Scores(Free):
    full: SetScores = SetScores()
    kept: SetScores = SetScores()
    none: SetScores = SetScores()
    honest: HonestScore | None = None


class OneStage(Free):
    use: str
    name: str | None = None


class OnePin(Free):
    feature: str
    verdict: Literal["keep", "drop"]
    because: str


class PlanLike(Free):
    table: dict[str, Any] = Field(default_factory=dict)
    score: dict[str, Any] = Field(default_factory=dict)
    stage: list[OneStage] = Field(default_factory=list)
    pin: list[OnePin] = Field(default_factory=list)


def check_scores(given: dict[str, Any]) -> dict[str, Any]:
    """Raises `ValueError` for what is no scores of a selection."""
    result = Scores.model_validate(given)
    metrics = [e.metric for s in (result.full, result.kept, result.none) for e in s.scores]
    metrics += [result.honest.metric] if result.honest is not None else []
    unknown = [m for m in metrics if m not in METRICS]
    if unknown:
        raise ValueError(f"metric '{unknown[0]}' is none of {', '.join(METRICS)}")
    return given


def check_plan(given: dict[str, Any]) -> dict[str, Any]:
    """Raises `ValueError` for what is no plan."""
    PlanLike.model_validate(given)
    return given


def check_bitmap(given: str) -> str:
    """Raises `ValueError` for what holds no rows."""
    try:
        zlib.decompress(base64.b64decode(given, validate=True)) if given else b""
    except (binascii.Error, zlib.error) as error:
        raise ValueError("it holds no rows") from error
    return given
