"""Which lenses a search looks through: the one of a model that the user named, or a linear one and a forest."""

from __future__ import annotations

from chaff.evaluate.setting import Setting
from chaff.methods.search.forest_lens import ForestLens, lens_of_forest
from chaff.methods.search.lens import Lens
from chaff.methods.search.linear_lens import LinearLens, lens_of_closed, linear_lens
from chaff.methods.search.model_lens import ModelLens
from chaff.methods.search.strategy import Strategy
from chaff.metrics import METRICS
from chaff.models.forest import Forest
from chaff.models.logistic import Logistic
from chaff.models.protocols import ClosedForm, Model
from chaff.table.design import Layout
from chaff.table.table import Table


def built_in_lenses(table: Table, setting: Setting) -> tuple[Lens, ...]:
    """The linear lens and the forest."""
    classes = len(table.target.classes)
    metric = METRICS[setting.metric] if setting.metric else None
    pays = metric is None or metric.of_errors is None
    return linear_lens(len(table), Layout.of(table, table.features).width, classes, pays), ForestLens(ForestLens().grown(len(table)))


def other_lens(lens: Lens, table: Table, setting: Setting) -> Lens:
    """The built-in lens of the other kind, to hold a named model's set against."""
    linear, forest = built_in_lenses(table, setting)
    return forest if isinstance(lens, LinearLens) else linear


def lens_of(model: Model, strategy: Strategy | None) -> Lens:
    """The lens of one model."""
    if isinstance(model, Forest) and strategy is None:
        return lens_of_forest(model)
    if isinstance(model, ClosedForm) or (isinstance(model, Logistic) and strategy is None):
        return lens_of_closed(model, strategy)
    return ModelLens(model, strategy)
