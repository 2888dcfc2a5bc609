"""What may be done after a proof, and what was done before it."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from .causes import CauseId
from .defaults import JUDGE
from .value import Value

ActionKind = Literal[
    "done",
    "offset",
    "knobs",
    "mesh",
    "measure",
    "clean",
    "print_again",
    "remedy",
    "feed",
    "caliper",
    "patches",
    "ladder",
    "settings",
    "tram",
    "shim",
    "stop_here",
    "wait_heat",
]


class FirstLayer(Value):
    """The first layer to print with, mm; `wider`: its lines are not those of before."""

    layer_mm: float
    line_mm: float
    wider: bool = False


class Action(Value):
    """Something to do next, with what it is expected to bring and what it costs."""

    kind: ActionKind
    p_all_sound: float
    minutes: float
    total_minutes: float
    #: Proofs still expected after this step; 0 where it ends here.
    proofs_left: float = 0.0
    shift_mm: float | None = None
    marks: tuple[int, ...] | None = None
    #: The one zone that is meant: its mesh point; or the patch of the newest proof under the caliper.
    zone: int | None = None
    #: Patches of the newest proof that are measured with a caliper.
    measure: tuple[int, ...] = ()
    #: Zones to clean in the same go: that and the step do not disturb one another.
    clean: tuple[int, ...] = ()
    #: What all zones may share and is mended by this, or in the same go; the likeliest first.
    causes: tuple[CauseId, ...] = ()
    #: Another first layer for proofs and parts.
    layer: FirstLayer | None = None
    reason: str

    @property
    def leaves(self) -> bool:
        """Whether it ends here though the plate is not likely enough sound to be called done."""
        return self.kind == "done" and self.p_all_sound < JUDGE.done_at


@dataclass(frozen=True)
class Before:
    """What was done since the proof before, and how often something was tried already."""

    #: The last change of height, positive away, and the last turns; None where the last step was another.
    shift_mm: float | None = None
    turns: tuple[float, ...] | None = None
    #: How often the same was printed again with nothing changed.
    repeats: int = 0
    #: Proofs printed in this run so far.
    proofs: int = 1
    #: Zones whose mesh point was measured again since the mesh was kept: that is not asked for twice.
    measured: frozenset[int] = frozenset()
    #: The newest proof showed each zone at several heights.
    several_heights: bool = False
    #: By zone its patch on the newest proof that a caliper can measure; None: those of the marks.
    to_measure: Mapping[int, int] | None = None
    #: Zones measured by a caliper on the newest proof.
    calipered: int = 0
    #: Whether a caliper is at hand: None while nobody has said.
    caliper: bool | None = None
    #: The mesh in use is an earlier run's: it can be measured anew.
    mesh_of_old: bool = False
    #: The feed was measured since it was last changed, or cannot be.
    fed: bool = False
    #: Nobody has ever measured it on this machine with this filament.
    feed_unknown: bool = False
    #: Zones that were judged while the plate and the tip stood as they do; None: those with a mark.
    judged: frozenset[int] | None = None
    #: A patch no further from the plate than the nozzle runs did not hold on the newest proof.
    fallen: bool = False
    #: Shared causes that were mended already, since the last ladder.
    mended_in_vain: frozenset[str] = frozenset()
    #: By what promises are multiplied, as they were kept so far.
    trust: float = 1.0
    #: The next print lays each zone so much closer and so much further, mm; 0 where it lays them as the nozzle runs.
    apart_mm: float = 0.0
    #: The height is known so badly that a ladder tells more than one height.
    height_unknown: bool = False
    #: Whether the tram has anything left to do: it is not advised where it is done, or has given up.
    tram: Literal["open", "done", "gave_up"] = "open"

    @property
    def asks_feed_once(self) -> bool:
        """Whether the feed is asked for though little speaks against it: on the first proof, where nobody knows it."""
        return self.feed_unknown and self.proofs == 1
