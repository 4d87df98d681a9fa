"""Plain, slow and independent: what a careful person would write without any of Chaff's forms."""

from __future__ import annotations

import numpy as np
import pandas as pd


def plain_design(train: pd.DataFrame, test: pd.DataFrame, features) -> tuple[np.ndarray, np.ndarray]:
    """Mean-filled numbers and dummy columns without the commonest training level, weighted means and counts in `_w`."""
    left, right = [], []
    w = train["_w"].to_numpy()
    for f in features:
        a, b = train[f], test[f]
        if not pd.api.types.is_numeric_dtype(a):
            levels = sorted(set(pd.concat([a, b]).dropna()))
            if len(levels) == 2:  # yes/no is one 0/1 column
                a = a.map({levels[0]: 0.0, levels[1]: 1.0}).astype(float)
                b = b.map({levels[0]: 0.0, levels[1]: 1.0}).astype(float)
        if pd.api.types.is_numeric_dtype(a):
            x, z = a.to_numpy(float), b.to_numpy(float)
            seen = ~np.isnan(x)
            mean = np.average(x[seen], weights=w[seen])
            left.append(np.where(seen, x, mean))
            right.append(np.where(np.isnan(z), mean, z))
            continue
        a, b = a.astype(object).where(a.notna(), "(missing)"), b.astype(object).where(b.notna(), "(missing)")
        weight = {v: w[(a == v).to_numpy()].sum() for v in a.unique()}
        base = max(weight, key=weight.get)
        for level in sorted(weight):
            if level != base:
                left.append((a == level).to_numpy(float))
                right.append((b == level).to_numpy(float))
    return np.array(left).T.reshape(len(train), -1), np.array(right).T.reshape(len(test), -1)


def plain_ridge_error(train: pd.DataFrame, test: pd.DataFrame, features, y: str, penalty: float) -> tuple[float, float]:
    """(squared error on the test rows, squared error of the training mean), by least squares on augmented rows."""
    w, v = train["_w"].to_numpy(), test["_w"].to_numpy()
    A, B = plain_design(train, test, features)
    t = train[y].to_numpy(float)
    centre = np.average(t, weights=w)
    if A.shape[1]:
        mean = np.average(A, axis=0, weights=w)
        root = np.sqrt(w)[:, None]
        X = (A - mean) * root
        live = (X**2).sum(0) > 1e-9
        X, mean, B = X[:, live], mean[live], B[:, live]
        extra = np.diag(np.sqrt(penalty * (X**2).sum(0)))
        beta = np.linalg.lstsq(np.vstack([X, extra]), np.concatenate([(t - centre) * root[:, 0], np.zeros(len(extra))]), rcond=None)[0]
        predicted = centre + (B - mean) @ beta
    else:
        predicted = np.full(len(test), centre)
    s = test[y].to_numpy(float)
    return float(v @ (s - predicted) ** 2), float(v @ (s - centre) ** 2)


def parts_of_r2(error, around, weight):
    """R² of each split as its part in that of all test rows, from sums of squares and the weight of the test rows."""
    error, around, weight = (np.asarray(x, float) for x in (error, around, weight))
    return (around - error) / weight / np.mean(around / weight)
