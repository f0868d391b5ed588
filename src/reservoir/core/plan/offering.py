"""What clients are offered, as plans write it: for all networks, for some clients alone."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from pydantic import Field, PlainSerializer, PlainValidator, WithJsonSchema, model_validator

from reservoir.core.plan.option_values import (
    OPTIONS_SCHEMA,
    VENDOR_SCHEMA,
    VendorOptions,
    read_options,
    read_vendor_options,
    write_options,
    write_vendor_options,
)
from reservoir.core.plan.own_values import OwnValues, own_values_of, require_said_once
from reservoir.core.plan.part import Part
from reservoir.core.plan.scalars import (
    AddressOrNoneText,
    AddressText,
    DurationOrNoneText,
    GatewayText,
    ListOrNoneOf,
    WordOrNoneText,
)

OptionsText = Annotated[
    Mapping[int, bytes],
    PlainValidator(read_options),
    PlainSerializer(write_options),
    WithJsonSchema(OPTIONS_SCHEMA),
]
"""Options by registered name or by number: the code and the value's bytes."""


VendorOptionsText = Annotated[
    VendorOptions,
    PlainValidator(read_vendor_options),
    PlainSerializer(write_vendor_options),
    WithJsonSchema(VENDOR_SCHEMA),
]


class Offering(Part):
    """What clients are offered."""

    dns: ListOrNoneOf[AddressText] | None = None
    """DNS servers, the first one first (option 6)."""
    domain: WordOrNoneText | None = None
    """The domain name of clients (option 15)."""
    lease: DurationOrNoneText | None = None
    """How long a client may keep its address without renewing (option 51)."""
    next_server: AddressOrNoneText | None = None
    """Where clients fetch their boot file (RFC 2131, siaddr)."""
    boot_file: WordOrNoneText | None = None
    """The file that clients boot from (RFC 2131, file)."""
    options: OptionsText = Field(default={})
    """DHCP options by registered name or by number."""

    @model_validator(mode="after")
    def _says_once(self) -> Offering:
        require_said_once(self)
        return self


class Defaults(Offering):
    """Values for every network that doesn't set its own."""


class OwnOffer(Offering):
    """What some clients are offered, laid over what their network offers, key by key."""

    gateway: GatewayText = None
    vendor_options: VendorOptionsText | None = None
    """What a vendor's clients understand: option 43, or 125 with the number of its enterprise."""

    @property
    def own_values(self) -> OwnValues | None:
        """What it sets; None if nothing."""
        own = own_values_of({key: getattr(self, key) for key in self.model_fields_set})
        return own if own.values or own.options else None
