"""Made by docs/make_tables.py: what a type checker reads in place of the lazy face."""

from chaff.evaluate.stage import Stage
from chaff.methods.importance.way import Way
from chaff.models.protocols import Model
from chaff.work import Workers
from collections.abc import Iterable
from collections.abc import Mapping
from collections.abc import Sequence
from typing import Any
from typing import Literal

from chaff import demo as demo
from chaff import models as models
from chaff import plots as plots
from chaff import stats as stats
from chaff.cluster import Cluster as Cluster
from chaff.decide.changes import Changes as Changes
from chaff.decide.changes import changes as changes
from chaff.decide.chosen_set import make_selection as make_selection
from chaff.decide.compare_calls import compare as compare
from chaff.decide.compare_calls import try_scales as try_scales
from chaff.decide.compare_calls import two_models as two_models
from chaff.decide.drift import Drifts as Drifts
from chaff.decide.explaining import Explanation as Explanation
from chaff.decide.honest import Honest as Honest
from chaff.decide.keep_up import keep_up as keep_up
from chaff.decide.ledger import Ledger as Ledger
from chaff.decide.named_plans import named_plan as named_plan
from chaff.decide.overlap_calls import Overlaps as Overlaps
from chaff.decide.overlap_calls import associations as associations
from chaff.decide.overlap_calls import clusters as clusters
from chaff.decide.overlap_calls import components as components
from chaff.decide.overlap_calls import correlations as correlations
from chaff.decide.overlap_calls import dependencies as dependencies
from chaff.decide.overlap_calls import inflation as inflation
from chaff.decide.overlap_calls import overlaps as overlaps
from chaff.decide.pins import pin_drop as pin_drop
from chaff.decide.pins import pin_keep as pin_keep
from chaff.decide.plan import Plan as Plan
from chaff.decide.plan import Scoring as Scoring
from chaff.decide.plan import built_in_plan as built_in_plan
from chaff.decide.plan import read_plan as read_plan
from chaff.decide.rechecking.call import recheck as recheck
from chaff.decide.rechecking.result import Recheck as Recheck
from chaff.decide.run import Run as Run
from chaff.decide.run import select as select
from chaff.decide.search_call import runs as runs
from chaff.decide.search_call import search as search
from chaff.decide.selection import Selection as Selection
from chaff.decide.selection import read_selection as read_selection
from chaff.decide.triage import triage as triage
from chaff.errors import ArgumentError as ArgumentError
from chaff.errors import ChaffError as ChaffError
from chaff.errors import DataError as DataError
from chaff.errors import ModelError as ModelError
from chaff.errors import PlanError as PlanError
from chaff.errors import UnknownColumn as UnknownColumn
from chaff.errors import UsageError as UsageError
from chaff.errors import WorkerError as WorkerError
from chaff.evaluate.scorer import SubsetScorer as SubsetScorer
from chaff.evaluate.setting import Setting as Setting
from chaff.methods.chance.knockoffs import Knockoffs as Knockoffs
from chaff.methods.chance.shuffled_target import ChanceBaseline as ChanceBaseline
from chaff.methods.chance.stability import Stability as Stability
from chaff.methods.chance.twin_test import TwinTest as TwinTest
from chaff.methods.comparing.comparison import Comparison as Comparison
from chaff.methods.comparing.scale_comparison import Preparations as Preparations
from chaff.methods.comparing.two_models import TwoModels as TwoModels
from chaff.methods.evaluation.evaluation import Evaluation as Evaluation
from chaff.methods.evaluation.everywhere import Everywhere as Everywhere
from chaff.methods.evaluation.protection import Protection as Protection
from chaff.methods.importance.stage import Importance as Importance
from chaff.methods.importance.ways.coefficient import Coefficient as Coefficient
from chaff.methods.importance.ways.drop_column import DropColumn as DropColumn
from chaff.methods.importance.ways.given_others import GivenOthers as GivenOthers
from chaff.methods.importance.ways.impurity import Impurity as Impurity
from chaff.methods.importance.ways.permutation import Permutation as Permutation
from chaff.methods.importance.ways.pooled import Pooled as Pooled
from chaff.methods.importance.ways.shapley import Shapley as Shapley
from chaff.methods.importance.ways.standing import SplitStanding as SplitStanding
from chaff.methods.linear.by_hand import ByHand as ByHand
from chaff.methods.linear.by_hand import by_hand as by_hand
from chaff.methods.linear.checks import Residuals as Residuals
from chaff.methods.linear.checks import residuals as residuals
from chaff.methods.linear.column_worth import column_worth as column_worth
from chaff.methods.linear.column_worth import try_sizes as try_sizes
from chaff.methods.linear.summary import LinearSummary as LinearSummary
from chaff.methods.linear.summary import linear_summary as linear_summary
from chaff.methods.overlap.correlations import Correlating as Correlating
from chaff.methods.overlap.pair_cut import Correlation as Correlation
from chaff.methods.overlap.stage import Overlap as Overlap
from chaff.methods.overlap.vif_elimination import Inflation as Inflation
from chaff.methods.relevance.pairs import interactions as interactions
from chaff.methods.relevance.stage import Relevance as Relevance
from chaff.methods.screen.stage import Screen as Screen
from chaff.methods.search.alternatives import Alternatives as Alternatives
from chaff.methods.search.runs import Runs as Runs
from chaff.methods.search.search_result import SearchResult as SearchResult
from chaff.methods.search.size_choice import SizeRule as SizeRule
from chaff.methods.search.stage import Search as Search
from chaff.methods.search.strategies.along import Along as Along
from chaff.methods.search.strategies.annealing import Annealing as Annealing
from chaff.methods.search.strategies.backward import Backward as Backward
from chaff.methods.search.strategies.both import Both as Both
from chaff.methods.search.strategies.branch_and_bound import BranchAndBound as BranchAndBound
from chaff.methods.search.strategies.exhaustive import Exhaustive as Exhaustive
from chaff.methods.search.strategies.floating import Floating as Floating
from chaff.methods.search.strategies.forward import Forward as Forward
from chaff.methods.search.strategies.genetic import Genetic as Genetic
from chaff.methods.search.strategies.random_sets import RandomSets as RandomSets
from chaff.methods.search.strategies.recursive import Recursive as Recursive
from chaff.methods.search.strategies.swap import Swap as Swap
from chaff.methods.search.strategy import Progress as Progress
from chaff.models.bayes import NaiveBayes as NaiveBayes
from chaff.models.boosting import Boosting as Boosting
from chaff.models.forest import ExtremelyRandomForest as ExtremelyRandomForest
from chaff.models.forest import Forest as Forest
from chaff.models.forest import Tree as Tree
from chaff.models.least_squares import LeastSquares as LeastSquares
from chaff.models.least_squares import Ridge as Ridge
from chaff.models.logistic import Logistic as Logistic
from chaff.models.margins import LinearMargin as LinearMargin
from chaff.models.neighbours import Neighbours as Neighbours
from chaff.models.penalised import ElasticNet as ElasticNet
from chaff.models.penalised import GroupLasso as GroupLasso
from chaff.models.penalised import Lasso as Lasso
from chaff.report.writing import write_report as write_report
from chaff.results.cuts import Cut as Cut
from chaff.results.findings import Findings as Findings
from chaff.results.findings import read_findings as read_findings
from chaff.results.score import Score as Score
from chaff.results.trail import Trail as Trail
from chaff.results.verdict import Pin as Pin
from chaff.results.verdict import Verdict as Verdict
from chaff.stats.paired_loss import KeepUp as KeepUp
from chaff.table.opening import derive_target as derive_target
from chaff.table.opening import open_arrays as open_arrays
from chaff.table.opening import open_table as open_table
from chaff.table.table import Table as Table
from chaff.table.terms import Terms as Terms
from chaff.work import Work as Work

__version__: str

def chance_baseline(table: Table, by: Way | str | Mapping[str, Any] = ..., model: Model | str | Mapping[str, Any] = ..., *, shuffles: int = ..., seeds: int = ..., keep: Mapping[str, float] | None = ..., trees: int = ..., draws: Literal['shared', 'independent'] = ..., alpha: float = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def importance(table: Table, model: Model | str | Mapping[str, Any] = ..., by: Way | str | Mapping[str, Any] = ..., *, shuffles: int | None = ..., alpha: float = ..., cut: Mapping[str, float] | None = ..., against: Model | str | Mapping[str, Any] | None = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., folds: int = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def knockoffs(table: Table, q: float = ..., *, statistic: Literal['lasso difference', 'forest difference'] = ..., form: Literal['equicorrelated', 'semidefinite', 'minimum reconstructability'] = ..., marginals: Literal['as they are', 'normal scores'] = ..., runs: int = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def prune_correlations(table: Table, limit: float = ..., *, pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def prune_inflation(table: Table, limit: float = ..., *, order: Literal['claim', 'largest'] = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def prune_linear(table: Table, by: Literal['p', 'vif', 'both', 'aic', 'bic'] = ..., *, direction: Literal['backward', 'forward', 'both'] = ..., p_limit: float = ..., vif_limit: float = ..., order: Literal['loss', 'largest'] = ..., splits: int = ..., folds: int = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def relevance(table: Table, statistics: str | Sequence[str] = ..., *, by: str = ..., cut: Mapping[str, float] | None = ..., adjust: Literal['benjamini_hochberg', 'benjamini_yekutieli', 'holm', 'bonferroni'] = ..., confidence: float | None = ..., bins: int = ..., bin_kind: Literal['equal counts', 'equal width', 'supervised'] = ..., missing_level: bool | None = ..., pool_below: float = ..., neighbours: int = ..., sample_rows: int = ..., places: int = ..., shuffles: int = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def screen(table: Table, *, missing_share: float | None = ..., top_share: float | None = ..., relative_spread: float | None = ..., least_steps: float | None = ..., spread: float | None = ..., id_share: float | None = ..., level_share: float | None = ..., too_good: float | None = ..., far_above: float | None = ..., tells_p: float = ..., tells_effect: float = ..., doubtful: Literal['review', 'drop'] = ..., repeats: bool = ..., groups: bool = ..., echoes: bool = ..., sentinels: bool = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., folds: int = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def stability(table: Table, stage: Stage | str | Mapping[str, Any] = ..., size: int | float | None = ..., *, pairs: int = ..., threshold: float = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
def twin_test(table: Table, model: Model | str | Mapping[str, Any] | None = ..., by: Way | str | Mapping[str, Any] = ..., *, rounds: int = ..., percentile: float = ..., keep_share: float = ..., drop_share: float = ..., alpha: float = ..., pins: Iterable[Pin] = ..., features: Sequence[str] | None = ..., seed: int = ..., workers: Workers = ...) -> Findings: ...
