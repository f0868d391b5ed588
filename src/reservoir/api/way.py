"""The configuration of devices, as it is led from one stage of a change to the next."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from reservoir.api.scripts import device_texts, required_text
from reservoir.core.plan.model import Plan
from reservoir.core.pools import Pools
from reservoir.core.subject import Subject
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.scripting.ordering import UnsafeError
from reservoir.dialects.scripting.script import DeviceScript, device_script
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import write_device


class Way:
    """What devices have been told so far; each script begins where the one before it has led."""

    def __init__(self, old: Subject) -> None:
        """Begin with what they run."""
        texts = list(device_texts(old))
        self.sheets: Mapping[str, Sheet] = {name: sheet for name, sheet, _ in texts}
        self._texts = {name: text for name, _, text in texts}
        self._was_read = isinstance(old, ReadSubject)

    def to(self, plan: Plan, sheets: Mapping[str, Sheet]) -> Iterator[DeviceScript]:
        """The scripts of all devices that are known to what a plan says, and to no more."""
        for device, sheet in sheets.items():
            if device in self._texts:
                present = self._texts[device] if self._was_read else None
                yield from self._changed(device, sheet, plan, present, remove_others=True)

    def to_these(self, plan: Plan, devices: Collection[str]) -> Iterator[DeviceScript]:
        """The scripts of some devices to what a plan says of some networks; the others stay."""
        for device in devices:
            if device in self._texts:
                present = self._texts[device]
                yield from self._changed(
                    device, self.sheets[device], plan, present, remove_others=False
                )

    def _changed(
        self, device: str, sheet: Sheet, plan: Plan, present: str | None, *, remove_others: bool
    ) -> Iterator[DeviceScript]:
        """A device's script to what a plan says, if that is something else.

        Raises:
            UnsafeError: the device can't do it, or no order of its statements is safe.
        """
        before = self._texts[device]
        try:
            after = required_text(write_device(Pools(plan), device, sheet, present, remove_others))
            made = device_script(device, sheet, before, after)
        except UnsafeError as error:
            raise UnsafeError(f"{device}: {error}") from None
        script = made.script
        if after == before or (script is not None and not script.lines):
            return  # another text may say the same
        self._texts[device] = after if script is None else script.given_to(before, sheet)
        yield made
