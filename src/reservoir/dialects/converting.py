"""Converts one device's configuration to another dialect: read, lifted, written anew."""

from __future__ import annotations

from dataclasses import replace

from reservoir.core.pools import Pools
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import DeviceConfiguration, write_device


def convert_read(read: ConfigurationRead, sheet: Sheet) -> DeviceConfiguration:
    """Write what was read of a device as if it were of another dialect.

    What the other dialect can't express is in the result's losses, what it would do differently
    in its obstacles.
    """
    lifted = read.lifted
    device = lifted.device.model_copy(update={"dialect": sheet.name})
    plan = replace(lifted.plan(), devices={lifted.name: device})
    return write_device(Pools(plan), lifted.name, sheet)
