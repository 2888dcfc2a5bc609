"""What the trials with bars share: a figure with its error and its bar, and which of them are missed."""

from typing import Any

import numpy as np


def bar_of(name: str, scenario: dict[str, Any]) -> float | None:
    """What is wanted of a figure; None where nothing is."""
    return scenario["bars"][name][0] if name in scenario["bars"] else None


def figure(name: str, values: list[float], scenario: dict[str, Any]) -> dict[str, float | None]:
    """The mean of some values, two standard errors of it, and its bar; None where it has none."""
    v = np.array(values)
    return {
        "mean": round(float(v.mean()), 4),
        "two_se": round(float(2 * v.std() / len(v) ** 0.5), 4),
        "bar": bar_of(name, scenario),
    }


def missed(report: dict[str, Any], scenario: dict[str, Any]) -> list[str]:
    """The figures that miss their bar by more than their two standard errors."""
    out = []
    for name, (bar, how) in scenario["bars"].items():
        found = report["figures"].get(name)
        if found is None:
            continue
        off = found["mean"] - bar if how == "most" else bar - found["mean"]
        if off > found["two_se"] + 1e-9:
            out.append(name)
    return out
