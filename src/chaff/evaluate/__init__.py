"""Scoring sets of features on folds: SubsetScorer, Walk, paired differences, and what a stage is."""
