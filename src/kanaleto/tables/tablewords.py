"""Words of other people's tables: headings in several languages, types, tables and access as they are written
elsewhere."""


def _read_words(text: str) -> dict[str, tuple[str, ...]]:
    """Ours, a colon, theirs with commas; a deeper line goes on."""
    joined: list[str] = []
    for line in text.splitlines():
        if line.startswith("        "):
            joined[-1] += f" {line.strip()}"
        elif line.strip():
            joined.append(line.strip())
    split = (line.partition(": ") for line in joined)
    return {ours: tuple(word.strip() for word in theirs.split(",") if word.strip()) for ours, _, theirs in split}


def _turned(words: dict[str, tuple[str, ...]]) -> dict[str, str]:
    return {theirs: ours for ours, many in words.items() for theirs in many}


HEADINGS = _read_words(
    """
    name: name, point, tag, signal, parameter, designation, label, variable, bezeichnung, nom, nombre, nome, naam, desc,
        description, beschreibung, descripcion, descrizione, omschrijving, libelle
    address: address, addr, register, reg, adresse, adress, adres, direccion, indirizzo, registre, registro, offset dec,
        address dec, address hex, modbus, index, no, nr
    table: table, area, object, register type, objekt, tabelle, zone, tipo de registro, registertyp, kind, function,
        function code, fc, fonction, funktion, funcion, funzione
    type: type, data type, datatype, format, datentyp, typ, tipo, tipo dato, type de donnee, gegevenstype, encoding
    order: order, byte order, word order, endian, byteorder, reihenfolge, ordre, orden, ordine
    factor: factor, scale, scaling, multiplier, gain, resolution, faktor, skalierung, facteur, echelle,
        factor de escala, fattore, scala, schaal, multiplikator
    offset: offset, bias, verschiebung, decalage, desplazamiento
    unit: unit, units, einheit, unite, unidad, unita, eenheid, eng unit, uom
    decimals: decimals, digits, dezimalen, nachkommastellen, decimales, decimali, decimalen, precision
    access: access, r/w, rw, read/write, zugriff, acces, acceso, accesso, toegang, mode, permission
    range_low: min, minimum, range low, low, minimo, von
    range_high: max, maximum, range high, high, maximo, massimo, bis
    labels: labels, states, values, enum, werte, zustande, etats, valores, stati, meaning
    bit: bit, bits, bit no, bitnummer
    initial: default, initial, vorgabe, valeur par defaut
    note: note, notes, comment, remark, remarks, bemerkung, kommentar, remarque, nota, commento, opmerking, comments
    """
)
"""Headings by field, the likeliest first."""
TYPES = _turned(
    _read_words(
        """
    uint16: u16, uint, word, unsigned, unsigned int, unsigned 16, ushort, 16 bit unsigned, unsigned16, enum, enum16
    int16: s16, i16, int, short, signed, integer, signed16, signed 16, 16 bit signed
    uint32: u32, dword, udint, ulong, unsigned32, unsigned 32, unsigned long, acc32
    int32: s32, i32, dint, long, signed32, signed 32
    float32: float, real, single, f32, float 32, ieee754, ieee 754
    float64: double, f64, lreal, float 64
    uint64: u64, ulint
    int64: s64, i64, lint
    bool: boolean, bit
    bcd16: bcd
    bits: bitfield, bitmap, bitfield16
    """
    )
)
TABLES = _turned(
    _read_words(
        """
    coil: coil, coils, do, digital output, 0x, 1, 01
    discrete: discrete, discrete input, di, digital input, 1x, 2, 02
    input: input, input register, ir, 3x, 4, 04
    holding: holding, holding register, hr, 4x, 3, 03, register
    """
    )
)
ACCESS = _turned(
    _read_words(
        """
    r: r, ro, read, read only, readonly, lesen, lecture
    w: w, wo, write, write only
    rw: rw, r/w, read/write, read write, lesen/schreiben, wr
    """
    )
)
