"""What the page of a manner shows, and what is done on it: begin, teach, settle, carry out and in."""

from ivory_table.core.manner import SHIPPED, Manner, manner_file, read_manner
from ivory_table.core.plate import ConventionId, Machine
from ivory_table.core.teach.catalogue import Word, word, words
from ivory_table.core.teach.job import lines_of_job
from ivory_table.core.teach.lesson import Lesson
from ivory_table.core.teach.pieces import differs_at
from ivory_table.core.teach.proving import Proved, proof_of
from ivory_table.core.teach.teaching import (
    Teaching,
    WordShown,
    learn,
    teaching_of,
    text_in_words,
    what_it_reads,
)
from ivory_table.link.manners import Manners
from ivory_table.runs.doubts import Refused
from ivory_table.store.workshop import Workshop

from .shapes import (
    Begin,
    BringManner,
    Difference,
    Differences,
    JobLines,
    MannerLine,
    MannerView,
    Settings,
    Source,
    Taught,
    TeachWord,
    Tried,
    WordState,
    WordView,
)

#: From where a manner comes: it came with the application, is a file of the workshop's own, or was taught here.


class Pages:
    """Everything the page of a manner does."""

    def __init__(self, workshop: Workshop, manners: Manners) -> None:
        self.workshop, self.manners = workshop, manners

    def listing(self) -> tuple[MannerLine, ...]:
        machines = self.workshop.machines()
        return tuple(self._line(manner_id, machines) for manner_id in self.manners.names())

    def _line(self, manner_id: str, machines: tuple[Machine, ...]) -> MannerLine:
        used = tuple(m.name for m in machines if m.manner == manner_id)
        source = self.source(manner_id)
        teaching = self.workshop.teachings.get(manner_id) if source == "taught" else None
        try:
            name, wrong = self.manners.get(manner_id).name, ""
        except ValueError as why:
            name, wrong = teaching.name if teaching else manner_id, str(why)
        return MannerLine(id=manner_id, name=name, source=source, complete=not wrong, words=wrong, machines=used)

    def source(self, manner_id: str) -> Source:
        if manner_id in self.manners.files():
            return "file"
        return "taught" if self.workshop.teachings.versions(manner_id) else "shipped"

    def teaching(self, manner_id: str, convention: ConventionId = "probe_offset") -> Teaching:
        """A manner as something to look at or go on teaching. Raises Refused for one that there is not."""
        if self.source(manner_id) == "taught":
            found = self.workshop.teachings.get(manner_id)
            assert found is not None
            return found
        return teaching_of(self._get(manner_id), convention)

    def _get(self, manner_id: str) -> Manner:
        try:
            return self.manners.get(manner_id)
        except ValueError as wrong:
            raise Refused("bad_manner", str(wrong), "manner") from None

    def view(
        self, manner_id: str, machine_id: str | None = None, lesson: tuple[str, Lesson] | None = None
    ) -> MannerView:
        machines = self.workshop.machines()
        machine = self.workshop.machine(machine_id) if machine_id else None
        teaching = self.teaching(manner_id, machine.convention if machine else "probe_offset")
        versions = self.workshop.teachings.versions(manner_id)
        tried = self.workshop.teachings.proved(manner_id, machine_id) if machine_id else ()
        return MannerView(
            id=manner_id,
            name=teaching.name,
            about=teaching.about,
            source=self.source(manner_id),
            version=versions[0].number if versions else 0,
            convention=teaching.convention,
            machine_id=machine_id,
            words=tuple(_word_view(teaching, w, tried, lesson) for w in words()),
            missing=tuple(w.id for w in teaching.missing),
            silence_s=teaching.silence_s,
            homing_ends_mesh=teaching.homing_ends_mesh,
            law=teaching.law,
            versions=versions[:20],
            machines=tuple(m.name for m in machines if m.manner == manner_id),
        )

    def begin(self, wanted: Begin) -> MannerView:
        """A new manner, kept at once. Raises Refused for an id that is taken."""
        if wanted.id in self.manners.names():
            raise Refused(
                "manner_taken", f"There is a manner '{wanted.id}' already. Give this one another name.", "name"
            )
        if wanted.start_from is None:
            teaching, what = (
                Teaching(id=wanted.id, name=wanted.name, convention=wanted.convention),
                "begun from nothing",
            )
        else:
            named = (wanted.id, wanted.name)
            if self.source(wanted.start_from) == "taught":
                teaching = self.teaching(wanted.start_from).model_copy(update={"id": wanted.id, "name": wanted.name})
            else:
                teaching = teaching_of(self._get(wanted.start_from), wanted.convention, named=named)
            what = f"begun from {wanted.start_from}"
        self.workshop.teachings.keep(teaching, 0, wanted.by, what)
        return self.view(wanted.id)

    def teach(self, manner_id: str, word_id: str, wanted: TeachWord, machine_id: str | None = None) -> Taught:
        """Show one word. What is settled is kept as a new version; what is not, is said and nothing is lost of it."""
        teaching = self._own(manner_id)
        what = self._word(word_id)
        lesson, fresh = learn(teaching, word_id, wanted.shown)
        if fresh != teaching:
            told = "cleared" if wanted.shown.without else "taught" if lesson.settled else "shown"
            self.workshop.teachings.keep(fresh, wanted.seen_version, wanted.by, f"{told}: {what.name.lower()}")
        return Taught(lesson=lesson, view=self.view(manner_id, machine_id, (word_id, lesson)))

    def settle(self, manner_id: str, wanted: Settings) -> MannerView:
        changes = {n: getattr(wanted, n) for n in ("name", "about", "silence_s", "homing_ends_mesh", "law")}
        fresh = self._own(manner_id).model_copy(update=changes)
        self.workshop.teachings.keep(fresh, wanted.seen_version, wanted.by, "settings")
        return self.view(manner_id)

    def back_to(self, manner_id: str, version: int, by: str) -> MannerView:
        """An earlier version once more, as the newest."""
        found = self.workshop.teachings.get(manner_id, version)
        if found is None:
            raise Refused("no_version", f"There is no version {version} of this manner.", "version")
        self.workshop.teachings.keep(
            found, self.workshop.teachings.versions(manner_id)[0].number, by, f"back to version {version}"
        )
        return self.view(manner_id)

    def file(self, manner_id: str) -> str:
        return manner_file(self._get(manner_id))

    def bring(self, wanted: BringManner) -> MannerView:
        """A manner from a file. Raises Refused with what is wrong in it."""
        try:
            found = read_manner(wanted.text)
        except ValueError as wrong:
            raise Refused("bad_manner", str(wrong), "text") from None
        if self.source(found.id) == "file" or found.id in SHIPPED:
            raise Refused(
                "manner_taken",
                f"'{found.id}' is here already and cannot be written over. Give the file another id.",
                "text",
            )
        seen = self.workshop.teachings.versions(found.id)
        machine = next((m for m in self.workshop.machines() if m.manner == found.id), None)
        teaching = teaching_of(found, machine.convention if machine else "probe_offset")
        self.workshop.teachings.keep(teaching, seen[0].number if seen else 0, wanted.by, "brought from a file")
        return self.view(found.id)

    def try_reply(self, manner_id: str, word_id: str, text: str) -> Tried:
        """Another sample held against the settled pattern."""
        self._word(word_id)
        found = what_it_reads(self.teaching(manner_id), word_id, text)
        if found is None:
            samples = self.teaching(manner_id).shown.get(word_id, WordShown()).said
            at = differs_at(samples[0].text, text) if samples else None
            from_here = text[at:].split("\n")[0].strip()[:30] if at is not None else ""
            where = (
                f" from “{from_here}” on"
                if from_here
                else ": something is missing at its end"
                if at is not None
                else ""
            )
            more = "Show it as one more sample, and say what it means."
            return Tried(found=None, words=f"It does not fit{where}. {more}", at=at)
        said = ", ".join(f"{k.replace('_', ' ')} {v}" for k, v in found.items())
        return Tried(found=found, words=f"It fits: {said}." if said else "It fits.")

    def of_job(self, manner_id: str, text: str) -> JobLines:
        known = [self._get(m) for m in SHIPPED]
        return JobLines(lines=lines_of_job(text, known, self.teaching(manner_id).texts))

    def differences(self, manner_id: str, other: str) -> Differences:
        """Word by word against another manner, or against an earlier version of itself (a number)."""
        mine = self.teaching(manner_id)
        if other.isdigit():
            theirs = self.workshop.teachings.get(manner_id, int(other))
            if theirs is None:
                raise Refused("no_version", f"There is no version {other} of this manner.", "other")
        else:
            if other not in self.manners.names():
                raise Refused("no_manner", f"There is no manner '{other}' here.", "other")
            theirs = self.teaching(other, mine.convention)
        found = tuple(
            _difference(w, mine.texts.get(w.id, ""), theirs.texts.get(w.id, ""))
            for w in words()
            if mine.texts.get(w.id, "") != theirs.texts.get(w.id, "")
        )
        return Differences(other=other, found=found)

    def use(self, machine_id: str, manner_id: str) -> Machine:
        """Let a machine talk so from now on. Raises Refused for a manner that is not complete."""
        self._get(manner_id)
        machine = self.workshop.machine(machine_id)
        changed = machine.model_copy(update={"manner": manner_id})
        self.workshop.keep_machine(changed)
        return changed

    def _own(self, manner_id: str) -> Teaching:
        if manner_id not in self.manners.names():
            raise Refused("no_manner", f"There is no manner '{manner_id}' here.", "manner")
        if self.source(manner_id) != "taught":
            raise Refused(
                "not_yours", "This manner came as a file and stays as it is. Begin one of your own from it.", "manner"
            )
        return self.teaching(manner_id)

    def _word(self, word_id: str) -> Word:
        try:
            return word(word_id)
        except ValueError as wrong:
            raise Refused("no_word", str(wrong), "word") from None


def _difference(w: Word, here: str, there: str) -> Difference:
    """In words where they tell the two apart; otherwise as they are written."""
    said = (here, there) if w.kind == "line" else (text_in_words(w, here), text_in_words(w, there))
    if said[0] == said[1]:
        said = (here, there)
    return Difference(word=w.id, name=w.name, here=said[0], there=said[1])


def _word_view(teaching: Teaching, w: Word, tried: tuple[Proved, ...], lesson: tuple[str, Lesson] | None) -> WordView:
    text = teaching.texts.get(w.id, "")
    shown = teaching.shown.get(w.id, WordShown())
    state: WordState = "settled" if text else "needed" if w.needed else "without" if shown.without else "open"
    return WordView(
        id=w.id,
        group=w.group,
        name=w.name,
        kind=w.kind,
        why=w.why,
        who=w.who,
        without=w.without,
        asked=w.asked,
        values=w.values,
        fields=w.fields,
        of=w.of,
        needed=w.needed,
        moves=w.moves,
        state=state,
        text=text,
        words=text_in_words(w, text),
        shown=shown,
        lesson=lesson[1] if lesson and lesson[0] == w.id else Lesson(),
        proved=proof_of(w.id, text, tried),
    )
