"""A made-up past of a machine: runs weeks apart over a plate whose truth is known, kept as the desk keeps them."""

from datetime import datetime, timedelta

import numpy as np

from ivory_table.core.drift import PlateSeen
from ivory_table.core.setup import RunSetup
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.runs.summary import shown_of
from ivory_table.store.workshop import Workshop
from tests.conftest import setup_for


def seen(names: tuple[str, ...], off: np.ndarray, sd: float = 0.01) -> PlateSeen:
    n = len(names)
    cov = sd**2 * (np.eye(n) + 0.5 * np.ones((n, n)))
    return PlateSeen(
        places=names,
        gap_mm=tuple(float(v) for v in 0.2 + off),
        cov=tuple(tuple(float(v) for v in row) for row in cov),
        target_mm=0.2,
        low_mm=0.14,
        high_mm=0.25,
    )


def past_of(
    workshop: Workshop,
    machine_id: str,
    days_ago: list[float],
    now: datetime,
    *,
    seed: int = 1,
    rate: float = 0.004,
    loosens: tuple[int, float] | None = None,
) -> None:
    """Runs so many days ago, oldest first; each finds what has drifted since and leaves it right. `loosens`: which support, mm a day."""
    r = np.random.default_rng(seed)
    base = setup_for(machine_id)
    names = ("centre", *(s.name for s in base.machine.screws))
    m = len(names) - 1
    truth = np.zeros(m + 1)
    for k, ago in enumerate(days_ago):
        setup: RunSetup = base.model_copy(
            update={"id": f"{machine_id}-{k}", "started_at": now - timedelta(days=ago), "neighbours_alike": True}
        )
        if k:
            days = days_ago[k - 1] - ago
            own = rate * days**0.5 * r.standard_normal(m)
            if loosens:
                own[loosens[0]] += loosens[1] * days
            truth = truth + np.append(own.mean(), own) + rate * days**0.5 * r.standard_normal()
        found = truth + 0.01 * r.standard_normal(m + 1)
        truth = 0.01 * r.standard_normal(m + 1)
        workshop.start_run(setup)
        shown = shown_of(OpenRun(setup, (), RunState.start(setup), None))
        left = seen(names, np.zeros(m + 1))
        summary = shown.summary.model_copy(
            update={
                "found": seen(names, found),
                "left": left,
                "words": "signed off",
                "signed_off": True,
                "zones_sound": (5, 5),
            }
        )
        workshop.figures.keep(shown._replace(summary=summary))
