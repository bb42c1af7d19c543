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
    name: name, point, tag, signal, parameter, designation, label, variable, bezeichnung, messwert, messgroesse,
        datenpunkt, kennzeichen, groesse, nom, grandeur, mesure, repere, nombre, variable del proceso, magnitud, punto,
        nome, grandezza, misura, punto dato, naam, desc, description, beschreibung, descripcion, descrizione,
        omschrijving, libelle
    address: address, addr, register, reg, adresse, adress, adres, registeradresse, registernummer, startadresse,
        speicheradresse, direccion, direccion de registro, direccion modbus, indirizzo, indirizzo registro,
        indirizzo modbus, registre, adresse registre, adresse modbus, numero de registre, registro, numero registro,
        offset dec, address dec, address hex, modbus, index, no, nr
    table: table, area, object, register type, objekt, tabelle, zone, bereich, registerart, speicherbereich,
        type de registre, zone memoire, tipo de registro, tipo registro, tipo di registro, area di memoria,
        zona de memoria, registertyp, kind, function, function code, fc, funktionscode, code fonction, codice funzione,
        codigo de funcion, fonction, funktion, funcion, funzione
    type: type, data type, datatype, format, datentyp, datenformat, typ, zahlenformat, tipo, tipo dato, tipo di dato,
        formato, tipo de dato, tipo de datos, formato de dato, type de donnee, type de donnees, gegevenstype, encoding
    order: order, byte order, word order, endian, byteorder, reihenfolge, bytefolge, wortfolge, ordre, ordre des octets,
        ordre des mots, orden, orden de bytes, orden de palabras, ordine, ordine dei byte, ordine parole
    factor: factor, scale, scaling, multiplier, gain, resolution, faktor, skalierung, facteur, echelle,
        coefficient, coefficiente, coeficiente, facteur d echelle, fattore di scala, moltiplicatore, multiplicador,
        multiplicateur, aufloesung, auflosung, factor de escala, fattore, scala, schaal, multiplikator
    offset: offset, bias, verschiebung, nullpunkt, decalage, desplazamiento, scostamento, desfase
    unit: unit, units, einheit, masseinheit, unite, unite de mesure, unidad, unidades, unidad de medida, unita,
        unita di misura, u m, eenheid, eng unit, uom
    decimals: decimals, digits, dezimalen, nachkommastellen, decimales, decimali, decimalen, precision
    access: access, r/w, rw, read/write, zugriff, acces, acceso, accesso, toegang, mode, permission
    range_low: min, minimum, range low, low, minimo, von, minimalwert, valeur min, valore minimo, valor minimo
    range_high: max, maximum, range high, high, maximo, massimo, bis, maximalwert, valeur max, valore massimo,
        valor maximo
    labels: labels, states, values, enum, werte, zustande, zustaende, bedeutung, etats, valeurs, signification, valores,
        estados, significado, valori, stati, significato, meaning
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
    coil: coil, coils, do, digital output, 0x, 1, 01, spule, spulen, bobine, bobines, bobina, bobinas, digitalausgang,
        sortie numerique, sortie tor, uscita digitale, salida digital, read coils, read coil
    discrete: discrete, discrete input, di, digital input, 1x, 2, 02, diskreter eingang, digitaleingang,
        entree discrete, entree numerique, entree tor, ingresso discreto, ingresso digitale, entrada discreta,
        entrada digital, input status, contact, read discrete inputs
    input: input, input register, ir, 3x, 4, 04, eingangsregister, eingaberegister, registre d entree, registre entree,
        registro di ingresso, registro ingresso, registro de entrada, read input registers
    holding: holding, holding register, hr, 4x, 3, 03, register, halteregister, registre de maintien,
        registre maintien, registro di mantenimento, registro de retencion, registro holding, registro de mantenimiento,
        read holding registers, registre de sauvegarde
    """
    )
)
ACCESS = _turned(
    _read_words(
        """
    r: r, ro, read, read only, readonly, lesen, nur lesen, lecture, lecture seule, l, lettura, sola lettura, lectura,
        solo lectura, les
    w: w, wo, write, write only, schreiben, nur schreiben, ecriture, ecriture seule, e, scrittura, sola scrittura,
        escritura, solo escritura, s
    rw: rw, r/w, read/write, read write, lesen/schreiben, lesen und schreiben, l/s, wr, lecture/ecriture,
        lecture ecriture, l/e, lettura/scrittura, lettura scrittura, lectura/escritura, lectura escritura,
        lectura y escritura
    """
    )
)
