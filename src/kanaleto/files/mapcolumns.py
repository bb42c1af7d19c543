"""The columns of a map, each with what it says and what may stand there; for whoever types one."""

from collections.abc import Collection, Iterable

from kanaleto.site.filefaults import suggestion

COLUMN_WORDS = {
    "name": "what the point is called; each once in a map",
    "table": "coil, discrete, input or holding",
    "address": "as the device's manual counts (numbering of the device); 0x… counts as the wire does",
    "type": "uint16, int32, float32, text:8, bits, bool, …; uint16[24] is a run of 24",
    "order": "ABCD, CDAB, BADC, DCBA, or all eight letters; AB or BA for one register",
    "factor": "value = raw × factor + offset, as 0.1",
    "offset": "value = raw × factor + offset",
    "raw_low": "with the next three: two points on a line, instead of factor and offset",
    "raw_high": "the raw number that means eng_high",
    "eng_low": "what raw_low means",
    "eng_high": "what raw_high means",
    "curve": "0=0;800=12.5;4000=100: raw = value, straight pieces between",
    "signal": "4-20mA: raw_low and raw_high are the raw numbers of 4 and 20 mA",
    "clamp": "yes: values end at the ends of the range or the curve",
    "scale": "a scale of the site file by its name, instead of the columns above",
    "exponent": "another point of this map: the value is times ten to its power",
    "states": "a list of states of the site file by its name",
    "no_value": "raw numbers that mean that there is none: 0x8000;0x7FFF",
    "unit": "the unit of measure, as bar",
    "decimals": "0 to 12 digits behind the point",
    "period_s": "seconds between two readings; 0 without a pause; demand: only when it is asked for",
    "access": "r, w (never read) or rw",
    "role": "command, status, setpoint or actual: where it stands on the pad",
    "feedback": "the point that shows what this one does",
    "write": "yes, confirm (each write is asked about) or never",
    "repeat": "yes: a write that brought no answer may be sent again",
    "labels": "names of numbers, 0=Closed;1=Open; of type bits names of bits, 0=Ready;3=Fault",
    "bit": "one bit of a word, 0 to 15 (0 is the least), or a field such as 4-7",
    "range_low": "the end of its bar", "range_high": "the other end",
    "warn_low": "a warning at or below", "warn_high": "a warning at or above",
    "alarm_low": "an alarm at or below", "alarm_high": "an alarm at or above",
    "hysteresis": "how far a value must come back before a limit is over",
    "delay_s": "for how many seconds it must be beyond before a limit counts",
    "warn_on": "states that are warnings: labels or numbers, as Fault;7; of type bits, bits",
    "alarm_on": "states that are alarms, written so too",
    "group": "points of one group come from one request",
    "deadband": "how much the value must change to be recorded again",
    "initial": "what a simulated device starts with",
    "words": "the words it starts with instead, as 0x41A0 0000",
    "setting": "unit_id, baud, parity or stop: the register holds that setting of the device's own port",
    "counts": "errors: the device counts here what went wrong on its line",
    "from": "of a device that a bridge composes: Device/Point, or = and an expression, as = [Mast/Wind] * 3.6",
    "prove": "what is to be proved: once, levels such as 0 25 50 75 100, each, write, limits, no; several with ;",
    "tolerance": "how far off it may be then: 0.5 % (of span), 0.2 (in the unit), 1 % of value",
    "sure": "0 to 1: how sure a search was of its reading; empty: somebody knows",
    "note": "any text",
}  # fmt: skip
COLUMNS = list(COLUMN_WORDS)


def why_unknown(keys: Iterable[str], headings: Collection[str] = ()) -> str:
    """In one sentence, where one of these is no column of a map, and no heading that this one has; else nothing."""
    for key in keys:
        if key not in COLUMN_WORDS and key not in headings:
            return f"{key} is no column of a map{suggestion(key, COLUMNS)}; ? lists them all"
    return ""
