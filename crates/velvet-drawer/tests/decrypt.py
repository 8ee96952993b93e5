"""Makes a plain file of an encrypted one with nothing but Python's own library, as docs/secrecy.md describes it.

    decrypt.py FILE TO KEY
"""
import hashlib, hmac, sys

PAGE, RESERVED = 4096, 80


def doubled(x):
    return (x << 1) ^ (0x11B if x & 0x80 else 0)


def boxes():
    box, p, q = [0x63] * 256, 1, 1
    while True:
        p ^= doubled(p)
        for by in (1, 2, 4):
            q ^= q << by
        q &= 0xFF
        if q & 0x80:
            q ^= 0x09
        box[p] = 0x63 ^ q ^ ((q << 1 | q >> 7) & 0xFF) ^ ((q << 2 | q >> 6) & 0xFF) ^ ((q << 3 | q >> 5) & 0xFF) \
            ^ ((q << 4 | q >> 4) & 0xFF)
        if p == 1:
            return box


BOX = boxes()
BACK = [BOX.index(n) for n in range(256)]


def times(a, b):
    product = 0
    while b:
        product ^= a if b & 1 else 0
        a, b = doubled(a), b >> 1
    return product


TIMES = {by: [times(n, by) for n in range(256)] for by in (9, 11, 13, 14)}


def round_keys(key):
    words, once = [list(key[at:at + 4]) for at in range(0, 32, 4)], 1
    while len(words) < 60:
        word = list(words[-1])
        if len(words) % 8 == 0:
            word = [BOX[b] for b in word[1:] + word[:1]]
            word[0] ^= once
            once = doubled(once)
        elif len(words) % 8 == 4:
            word = [BOX[b] for b in word]
        words.append([a ^ b for a, b in zip(word, words[-8])])
    return [sum(words[at:at + 4], []) for at in range(0, 60, 4)]


def block(keys, data):
    s = [a ^ b for a, b in zip(data, keys[14])]
    for at in range(13, -1, -1):
        s = [BACK[s[(row + 4 * (col - row)) % 16]] for col in range(4) for row in range(4)]
        s = [a ^ b for a, b in zip(s, keys[at])]
        if at:
            by9, by11, by13, by14 = TIMES[9], TIMES[11], TIMES[13], TIMES[14]
            s = [by14[s[c + r]] ^ by11[s[c + (r + 1) % 4]] ^ by13[s[c + (r + 2) % 4]] ^ by9[s[c + (r + 3) % 4]]
                 for c in range(0, 16, 4) for r in range(4)]
    return bytes(s)


source, target, key = sys.argv[1], sys.argv[2], bytes.fromhex(sys.argv[3])
data = open(source, "rb").read()
salt = data[:16]
proof_key = hashlib.pbkdf2_hmac("sha512", key, bytes(b ^ 0x3A for b in salt), 2, 32)
keys = round_keys(key)
out = b""
for number in range(1, len(data) // PAGE + 1):
    page = data[(number - 1) * PAGE:number * PAGE]
    start = 16 if number == 1 else 0
    proof = hmac.new(proof_key, page[start:-64] + number.to_bytes(4, "little"), "sha512").digest()
    if proof != page[-64:]:
        sys.exit(f"page {number} is not proven")
    body, before, plain = page[start:-RESERVED], page[-80:-64], b""
    for at in range(0, len(body), 16):
        plain += bytes(a ^ b for a, b in zip(block(keys, body[at:at + 16]), before))
        before = body[at:at + 16]
    out += (b"SQLite format 3\0" if number == 1 else b"") + plain + page[-RESERVED:]
# Without a log beside it.
out = out[:18] + b"\1\1" + out[20:]
open(target, "wb").write(out)
print(len(data) // PAGE, "pages")
