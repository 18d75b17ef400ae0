"""What the model stand-in makes of recordings and pictures, and of texts as vectors: deterministic, and honest about it."""

import hashlib
import io
import math
import re
import struct
import wave
import zlib

SIZE = 64


def vector(text: str) -> list[float]:
    """A text as a vector of length one: each word falls into a place by its digest, so texts that share words are near."""
    found = [0.0] * SIZE
    for word in re.findall(r"[a-z']{3,}", text.lower()):
        found[hashlib.sha256(word.rstrip("s").encode()).digest()[0] % SIZE] += 1.0
    length = math.sqrt(sum(part * part for part in found)) or 1.0
    return [round(part / length, 6) for part in found]


def recording(text: str) -> bytes:
    """A short recording (WAV) that carries what is said in it as its comment (RIFF, `LIST INFO ICMT`)."""
    out = io.BytesIO()
    with wave.open(out, "wb") as sound:
        sound.setnchannels(1)
        sound.setsampwidth(2)
        sound.setframerate(8000)
        tone = (int(8000 * math.sin(n / 6)) for n in range(4000))
        sound.writeframes(b"".join(struct.pack("<h", level) for level in tone))
    said = text.encode() + b"\0" * (1 + len(text.encode()) % 2)
    comment = b"INFOICMT" + struct.pack("<I", len(said)) + said
    whole = out.getvalue() + b"LIST" + struct.pack("<I", len(comment)) + comment
    return whole[:4] + struct.pack("<I", len(whole) - 8) + whole[8:]


def spoken(audio: bytes) -> str:
    """What a recording's comment says was spoken; empty when it carries none."""
    at = audio.find(b"ICMT")
    if not audio.startswith(b"RIFF") or at < 0:
        return ""
    length = struct.unpack("<I", audio[at + 4 : at + 8])[0]
    return audio[at + 8 : at + 8 + length].rstrip(b"\0").decode("utf-8", "replace")


def picture(text: str) -> bytes:
    """A small picture (PNG) that carries what it shows as its description (a `tEXt` chunk)."""
    size = 48
    rows = b"".join(b"\0" + bytes(90 + 2 * ((x * y) % size) for x in range(size)) for y in range(size))
    chunks = (
        (b"IHDR", struct.pack(">IIBBBBB", size, size, 8, 0, 0, 0, 0)),
        (b"tEXt", b"Description\0" + text.encode("latin-1", "replace")),
        (b"IDAT", zlib.compress(rows)),
        (b"IEND", b""),
    )
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data)) for kind, data in chunks
    )


def pictured(image: bytes) -> str:
    """What a picture's description says it shows; empty when it carries none."""
    at = image.find(b"tEXtDescription\0")
    if not image.startswith(b"\x89PNG") or at < 0:
        return ""
    length = struct.unpack(">I", image[at - 4 : at])[0]
    return image[at + 16 : at + 4 + length].decode("latin-1")
