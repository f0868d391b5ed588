"""Fits a pool to a device: what the device will really lend and tell, and what it can't hold."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from reservoir.core.address_set import AddressSet
from reservoir.core.addressing import format_address
from reservoir.core.durations import INFINITE, format_duration, parse_duration
from reservoir.core.findings import Obstacle, Suggestion
from reservoir.core.lending import Lending, Pool, Told
from reservoir.core.plan import PlanPath
from reservoir.core.topology import Attachment
from reservoir.dialects.sheet import Sheet


@dataclass(frozen=True)
class FittedPool:
    """A pool as a device will hold it."""

    pool: Pool
    lendable: AddressSet
    """What the device will lend: the plan's lendable set, less what it never lends by itself."""
    written: Told
    """What is written; None or empty where the device's own default serves."""
    told: Told
    """What clients are told in the end."""
    own: AddressSet
    """Addresses in the subnet that the device holds and would not lend."""
    attachment: Attachment | None
    """The device's own interface in the network, if it has one."""
    obstacles: tuple[Obstacle, ...]


def fit_pool(pool: Pool, lending: Lending, sheet: Sheet) -> FittedPool:
    """Fit one pool of the plan to the dialect of the device that lends it."""
    fitter = _Fitter(pool, lending, sheet)
    return fitter.fit()


def obstacles_to(lending: Lending, sheets: Mapping[str, Sheet]) -> list[Obstacle]:
    """What the plan's devices can't hold; ``sheets`` has the sheet of each device by name."""
    return [
        obstacle
        for pool in lending.pools
        if (sheet := sheets.get(pool.server or "")) is not None
        for obstacle in fit_pool(pool, lending, sheet).obstacles
    ]


class _Fitter:
    def __init__(self, pool: Pool, lending: Lending, sheet: Sheet) -> None:
        assert pool.server is not None
        self.pool = pool
        self.sheet = sheet
        self.obstacles: list[Obstacle] = []
        self.attachments = [
            attachment
            for attachment in lending.topology.attachments(pool.network)
            if attachment.device == pool.server
        ]

    def fit(self) -> FittedPool:
        attachment = self.attachments[0] if self.attachments else None
        own = AddressSet.of_addresses([a.address for a in self.attachments])
        if self.sheet.trait("own-address") != "skipped":
            own = AddressSet()
        written = self._dns(self._lease(self.pool.told))
        gateway = self._gateway(attachment)
        default = parse_duration(self.sheet.trait("blank-lease"))
        return FittedPool(
            pool=self.pool,
            lendable=self.pool.lendable - own,
            written=written,
            told=replace(written, gateway=gateway, lease=written.lease or default),
            own=own,
            attachment=attachment,
            obstacles=tuple(self.obstacles),
        )

    def _gateway(self, attachment: Attachment | None) -> int | None:
        named = self.pool.told.gateway
        if named is not None or attachment is None:
            return named
        if self.sheet.trait("blank-gateway") == "nothing":
            return None
        address = format_address(attachment.address)
        self._obstacle(
            "not-expressible",
            f"{self.pool.server} tells clients of {self.pool.name} its own address {address} as "
            "gateway, since the plan names none",
            "gateway",
            f"is told the gateway {address}",
            (Suggestion((*self.pool.path, "gateway"), None, address),),
        )
        return attachment.address

    def _dns(self, told: Told) -> Told:
        most = self.sheet.limits.get("pool.dns")
        if not told.dns and self.sheet.trait("blank-dns") == "refused":
            self._obstacle(
                "not-expressible",
                f"{self.pool.server} refuses a pool without a DNS server, and {self.pool.name} "
                "names none; name at least one in dns",
                "dns",
                "gets no address: the device refuses the pool",
            )
        if most is not None and len(told.dns) > most:
            self._obstacle(
                "too-many",
                f"{self.pool.name} names {len(told.dns)} DNS servers; {self.pool.server} holds "
                f"{most}",
                "dns",
                f"is not told the last {len(told.dns) - most} DNS servers",
            )
            return replace(told, dns=told.dns[:most])
        return told

    def _lease(self, told: Told) -> Told:
        lease, duration = told.lease, self.sheet.duration
        if lease is None:
            return told
        if lease == INFINITE and not duration.infinite:
            self._obstacle(
                "not-expressible",
                f"{self.pool.server} has no infinite lease",
                "lease",
                "is told the device's own lease time",
            )
            return replace(told, lease=None)
        if lease == INFINITE or lease % duration.step == 0:
            return told
        rounded = lease + duration.step - lease % duration.step
        self._obstacle(
            "lease-rounded",
            f"{self.pool.server} counts leases in steps of {format_duration(duration.step)}: "
            f"{format_duration(lease)} becomes {format_duration(rounded)}",
            "lease",
            f"is told a lease of {format_duration(rounded)}",
            (Suggestion(self._path("lease"), format_duration(lease), format_duration(rounded)),),
        )
        return replace(told, lease=rounded)

    def _path(self, key: str) -> PlanPath:
        """Where the network's value of a key stands: in the network, or in the defaults."""
        if getattr(self.pool.network, key) is not None or key == "gateway":
            return (*self.pool.path, key)
        return ("defaults", key)

    def _obstacle(
        self,
        rule: str,
        message: str,
        key: str,
        harm: str,
        suggestions: tuple[Suggestion, ...] = (),
    ) -> None:
        at = self._path(key) if getattr(self.pool.told, key) else self.pool.path
        self.obstacles.append(Obstacle(rule, message, at, self.pool.name, harm, suggestions))
