"""What a practice machine shows of a proof, and what cleaning does to it."""

from ivory_table.core.bead import closes
from ivory_table.core.defaults import LAYER
from ivory_table.core.hands import Hands
from ivory_table.core.proof import ProofChoice, ProofPlan
from ivory_table.desk.desk import Desk
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    LadderRead,
    Nudged,
    ProofStarted,
    ZoneCleaned,
)
from ivory_table.stations.first_layer.step import feed_first, look_before, next_steps


def practice(
    desk: Desk, run: OpenRun, choice: ProofChoice
) -> ProofStarted | Judged | LadderRead | CauseLookedFor | FeedMeasured:
    """The practice machine's answer: a print, the look of the next patch, or what is looked for or measured before the next step."""
    state = run.state
    if feed_first(run):
        return _feed(desk, run)
    if state.open_proof is None:
        desk.hands(run)
        return ProofStarted(proof=next_proof(run.state, choice))
    proof = state.proofs[-1]
    if (zone := proof.next_zone) is None:
        return _before_the_step(desk, run)
    if proof.plan.kind == "ladder" and not proof.marks:
        return _ladder(desk.hands(run), proof.plan, proof.zones_laid)
    look = desk.hands(run).print_zone(proof.plan, zone)
    return Judged(zone=zone, grade=look.grade, caliper_mm=look.caliper_mm, greasy=look.greasy, signs=look.signs)


def _ladder(hands: Hands, laid: ProofPlan, zones: int) -> LadderRead:
    """A ladder is watched, and stopped at the first step that holds and closes."""
    for zone in range(zones):
        if closes(grade := hands.print_zone(laid, zone).grade):
            return LadderRead(first=zone, grade=grade)
    return LadderRead(first=None)


def _before_the_step(desk: Desk, run: OpenRun) -> CauseLookedFor | FeedMeasured:
    """What is looked for or measured once every zone was judged, before anything is done."""
    first = look_before(run)
    if first is not None:
        return CauseLookedFor(cause=first.cause, found=desk.hands(run).look_for(first.cause))
    steps = next_steps(run)
    if steps and steps[0].action.kind == "feed":
        return _feed(desk, run)
    raise Refused("nothing_to_read", "Every zone of this proof has been judged.")


def _feed(desk: Desk, run: OpenRun) -> FeedMeasured:
    length = LAYER.feed.commanded_mm
    return FeedMeasured(commanded_mm=length, measured_mm=(desk.hands(run).measure_feed(length),))


@by_hand.register
def _nudged(what: Nudged, hands: Hands, before: OpenRun) -> None:
    hands.move_nozzle(what.away_mm)


@by_hand.register
def _feed_corrected(what: FeedCorrected, hands: Hands, before: OpenRun) -> None:
    hands.change_feed(what.times)


@by_hand.register
def _cause_mended(what: CauseMended, hands: Hands, before: OpenRun) -> None:
    hands.mend(what.cause)


@by_hand.register
def _zone_cleaned(what: ZoneCleaned, hands: Hands, before: OpenRun) -> None:
    if before.state.proofs:
        hands.clean(before.state.proofs[-1].plan, what.zone)
