"""Numbers for people: thousands separators in the style of `humble.toml`, and units."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.saying import percent

STYLES = {
    "1,234.5": (",", "."),
    "1.234,5": (".", ","),
    "1 234,5": ("\u202f", ","),
    "1234.5": ("", "."),
}
_KIB = 1024.0


@dataclass(frozen=True, slots=True)
class Numbers:
    """Writes figures; ``style`` is one of `STYLES`, by the example it gives."""

    style: str = "1,234.5"

    def whole(self, value: float | None) -> str:
        """A count: 1,234."""
        return "unknown" if value is None else self._styled(f"{value:,.0f}")

    def count(self, value: int, things: str) -> str:
        """A count of things: 1 run, 1,234 runs; ``things`` is their plural."""
        if value == 1:
            things = "query" if things == "queries" else things.removesuffix("s")
        return f"{self.whole(value)} {things}"

    def rows(self, value: float | None) -> str:
        """Rows per loop, which may be a fraction below 10."""
        if value is None:
            return "–"
        if value != round(value) and value < 10:
            return self._styled(f"{value:,.2f}")
        return self.whole(value)

    def figure(self, value: float | None) -> str:
        """A figure with three telling digits: 0.0123, 1.23, 12.3, 1,234."""
        if value is None:
            return "–"
        size = abs(value)
        places = 0 if size >= 100 else 1 if size >= 10 else 2 if size >= 1 else 3
        if 0 < size < 0.01:
            places = 4
        return self._styled(f"{value:,.{places}f}")

    def ms(self, value: float | None) -> str:
        """Milliseconds with the unit; seconds from 10,000 ms on."""
        if value is None:
            return "unknown"
        if value >= 10_000:
            return f"{self.figure(value / 1000)} s"
        return f"{self.figure(value)} ms"

    def percent(self, share: float | None, places: int | None = None) -> str:
        """A share as a percentage; what is above zero never shows as 0 %."""
        if share is None:
            return "–"
        if 0 < share < 0.001:
            return "<" + self._styled("0.1") + " %"
        places = (1 if share < 0.1 else 0) if places is None else places
        return f"{self._styled(f'{share * 100:.{places}f}')} %"

    def share(self, share: float) -> str:
        """A share in percent, with as many digits as tell it from nothing: 12.5 %, 0.00038 %."""
        return self._styled(percent(share))

    def fixed(self, value: float, places: int) -> str:
        """A figure with so many places behind the point, whatever its size: 1,234.5."""
        return self._styled(f"{value:,.{places}f}")

    def digits(self, value: float, digits: int = 3) -> str:
        """A figure with so many digits, and no zeros behind them: 4, 0.25, 1,230."""
        return self._styled(f"{value:,.{digits}g}")

    def mebibytes(self, size_bytes: float, digits: int = 3) -> str:
        """Bytes in MiB, for what is compared with a setting: 4 MiB, 0.25 MiB."""
        return f"{self.digits(size_bytes / _KIB / _KIB, digits)} MiB"

    def size(self, value: float | None) -> str:
        """Bytes in the largest fitting unit."""
        if value is None:
            return "unknown"
        for unit in ("bytes", "KiB", "MiB", "GiB"):
            if value < _KIB or unit == "GiB":
                break
            value /= _KIB
        return f"{self.whole(value) if unit == 'bytes' else self.figure(value)} {unit}"

    def times(self, ratio: float) -> str:
        """A factor: 4.1×."""
        return f"{self.figure(ratio)}×"

    def _styled(self, text: str) -> str:
        thousands, point = STYLES.get(self.style, (",", "."))
        return text.replace(",", "\0").replace(".", point).replace("\0", thousands)
