"""Opens sealed values with nothing but Python's own library, as docs/secrecy.md describes them.

    unseal.py vectors docs/secrecy.md
    unseal.py file FILE KEY TABLE COLUMN LABEL [COLUMN OF NAMES]
"""
import hashlib, hmac, re, sqlite3, struct, sys


def rotated(value, by):
    return (value << by | value >> 32 - by) & 0xFFFFFFFF


def rounds(state):
    x = list(state)
    for _ in range(10):
        for a, b, c, d in [(0, 4, 8, 12), (1, 5, 9, 13), (2, 6, 10, 14), (3, 7, 11, 15),
                           (0, 5, 10, 15), (1, 6, 11, 12), (2, 7, 8, 13), (3, 4, 9, 14)]:
            x[a] = x[a] + x[b] & 0xFFFFFFFF; x[d] = rotated(x[d] ^ x[a], 16)
            x[c] = x[c] + x[d] & 0xFFFFFFFF; x[b] = rotated(x[b] ^ x[c], 12)
            x[a] = x[a] + x[b] & 0xFFFFFFFF; x[d] = rotated(x[d] ^ x[a], 8)
            x[c] = x[c] + x[d] & 0xFFFFFFFF; x[b] = rotated(x[b] ^ x[c], 7)
    return x


def state(key, rest):
    return list(struct.unpack("<4I", b"expand 32-byte k") + struct.unpack("<8I", key) + struct.unpack("<4I", rest))


def block(key, count, nonce):
    first = state(key, struct.pack("<I", count) + nonce)
    return struct.pack("<16I", *(a + b & 0xFFFFFFFF for a, b in zip(first, rounds(first))))


def poly1305(key, message):
    r = int.from_bytes(key[:16], "little") & 0x0FFFFFFC0FFFFFFC0FFFFFFC0FFFFFFF
    total = 0
    for at in range(0, len(message), 16):
        total = (total + int.from_bytes(message[at:at + 16] + b"\1", "little")) * r % ((1 << 130) - 5)
    return (total + int.from_bytes(key[16:], "little") & (1 << 128) - 1).to_bytes(16, "little")


def opened(key, nonce, bound, made):
    x = rounds(state(key, nonce[:16]))
    subkey, nonce = struct.pack("<8I", *(x[:4] + x[12:])), bytes(4) + nonce[16:]
    text, tag = made[:-16], made[-16:]
    padded = lambda part: part + bytes(-len(part) % 16)
    message = padded(bound) + padded(text) + struct.pack("<QQ", len(bound), len(text))
    if not hmac.compare_digest(poly1305(block(subkey, 0, nonce)[:32], message), tag):
        raise ValueError("it does not open")
    stream = b"".join(block(subkey, 1 + at, nonce) for at in range(-(-len(text) // 64)))
    return bytes(a ^ b for a, b in zip(text, stream))


def unsealed(key, file_id, label, row, name, sealed):
    assert sealed[0] == (1 if name is None else 2), "the form"
    extracted = hmac.new(file_id, key, hashlib.sha256).digest()
    derived = hmac.new(extracted, b"velvet sealed 1\0" + label.encode() + b"\1", hashlib.sha256).digest()
    plain = opened(derived, sealed[5:29], sealed[:5] + struct.pack(">q", row) + (name or b""), sealed[29:])
    return plain.rstrip(b"\0")[:-1]


def value(plain):
    kind, rest = plain[:1], plain[1:]
    return {b"i": lambda: struct.unpack(">q", rest)[0], b"r": lambda: struct.unpack(">d", rest)[0],
            b"t": lambda: rest.decode(), b"b": lambda: rest.hex()}[kind]()


def bound(name):
    return b"t" + name.encode() if isinstance(name, str) else b"i" + struct.pack(">q", name)


if sys.argv[1] == "vectors":
    # A row each: key, id of the file, label, row, name, nonce, value, sealed.
    rows = re.findall(r"^\| `(\w{64})` \| `(\w{32})` \| `([^`]+)` \| (-?\d+) \| (?:`([^`]+)` )?\| `(\w{48})` \| `([^`]*)` \| `(\w+)` \|$", open(sys.argv[2]).read(), re.M)
    for key, file_id, label, row, name, nonce, plain, sealed in rows:
        sealed = bytes.fromhex(sealed)
        assert sealed[5:29].hex() == nonce
        name = bound(eval(name)) if name else None
        print(value(unsealed(bytes.fromhex(key), bytes.fromhex(file_id), label, int(row), name, sealed)) == eval(plain))
else:
    path, key, table, column, label, *names = sys.argv[2:]
    file = sqlite3.connect(path)
    keys = dict((number, file_id) for number, file_id in file.execute("SELECT number, file_id FROM velvet_sealing"))
    name = f'"{names[0]}"' if names else "NULL"
    for row, cell, name in file.execute(f'SELECT key, "{column}", {name} FROM "{table}" WHERE "{column}" IS NOT NULL ORDER BY key'):
        name = bound(name) if names else None
        file_id = keys[int.from_bytes(cell[1:5], "big")]
        print(row, value(unsealed(bytes.fromhex(key), file_id, label, row, name, cell)))
