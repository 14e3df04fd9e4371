"""Currency codes of ISO 4217, and those the standard leaves to users."""

from __future__ import annotations

import re
from typing import Final

_CURRENT: Final = """
    AED AFN ALL AMD ANG AOA ARS AUD AWG AZN BAM BBD BDT BGN BHD BIF BMD BND BOB BOV BRL BSD BTN BWP BYN
    BZD CAD CDF CHE CHF CHW CLF CLP CNY COP COU CRC CUC CUP CVE CZK DJF DKK DOP DZD EGP ERN ETB EUR FJD FKP
    GBP GEL GHS GIP GMD GNF GTQ GYD HKD HNL HRK HTG HUF IDR ILS INR IQD IRR ISK JMD JOD JPY KES KGS KHR KMF
    KPW KRW KWD KYD KZT LAK LBP LKR LRD LSL LYD MAD MDL MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MXV MYR MZN
    NAD NGN NIO NOK NPR NZD OMR PAB PEN PGK PHP PKR PLN PYG QAR RON RSD RUB RWF SAR SBD SCR SDG SEK SGD SHP
    SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TND TOP TRY TTD TWD TZS UAH UGX USD USN UYI UYU UYW UZS VED
    VES VND VUV WST XAF XCD XCG XOF XPF YER ZAR ZMW ZWG
"""
_WITHDRAWN: Final = """
    ATS BEF CYP DEM EEK ESP FIM FRF GRD IEP ITL LTL LUF LVL MTL NLG PTE SIT SKK TRL ROL RUR BGL ZWL MRO STD
    VEF SLL BYR AZM GHC MZM SDD TMM ZMK MXP PLZ YUM CSK ECS XEU
"""
_UNITS: Final = "XDR XAU XAG XPT XPD"  # accounts and metals
ISO_4217: Final = frozenset(" ".join((_CURRENT, _WITHDRAWN, _UNITS)).split())
_PAIR: Final = re.compile(r"([A-Z]{3})[-/_. ]?([A-Z]{3})")
_USER_ASSIGNED: Final = re.compile(r"(AA|Q[M-Z]|ZZ)[A-Z]")


def is_currency(code: str) -> bool:
    """Whether a text is a currency code of ISO 4217, or one of those left to users.

    User-assigned codes begin with a country code that ISO 3166 leaves to users: AA, QM to QZ
    and ZZ.

    Examples
    --------
    >>> is_currency("EUR"), is_currency("QML"), is_currency("QLX"), is_currency("ABC")
    (True, True, False, False)
    """
    return code in ISO_4217 or bool(_USER_ASSIGNED.fullmatch(code))


def pair_in(text: str) -> tuple[str, str] | None:
    """Base and quote currency of a pair such as EUR/USD, EURUSD, EUR-USD or EUR USD; nothing if it is none.

    Examples
    --------
    >>> pair_in("EURUSD"), pair_in("QML/QSR"), pair_in("EUR-ABC"), pair_in("FACTOR")
    (('EUR', 'USD'), ('QML', 'QSR'), None, None)
    """
    match = _PAIR.fullmatch(text.strip().upper() if text.islower() else text.strip())
    if match and match[1] != match[2] and is_currency(match[1]) and is_currency(match[2]):
        return match[1], match[2]
    return None
