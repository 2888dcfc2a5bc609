"""What Prepare refuses."""

from ivory_table.core.defaults import PREPARE
from ivory_table.runs.doubts import Refused, doubt, refuse_unknown_change
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun

from .entries import ChangeTold, Heated


@doubt.register
def _heated(what: Heated, run: OpenRun, source: Source) -> None:
    filament = run.setup.filament
    stands = PREPARE["stands"][filament.material]
    for name, asked, most in (("plate", what.bed_c, stands["bed_c"]), ("tip", what.nozzle_c, stands["tip_c"])):
        if asked > most and not what.sure and source == "hand":
            raise Refused(
                "hotter_than_it_stands",
                f"{asked:g} °C is a lot for the {name} with {filament.material}, which usually stands {most:g} °C there. "
                "Type it again, or say that you are sure.",
                "bed_c" if name == "plate" else "nozzle_c",
                insist=True,
            )


@doubt.register
def _change_told(what: ChangeTold, run: OpenRun, source: Source) -> None:
    refuse_unknown_change(what.change)
