"""Seals small secrets with the site's key: HMAC-SHA256 as a key stream, and again as the seal. A demonstration."""

import hashlib
import hmac
import os


class Vault:
    """Opens and makes sealed secrets."""

    def __init__(self, key_file):
        self.key = bytes.fromhex(key_file.read_text().strip())

    def seal(self, secret, nonce=None):
        nonce = nonce or os.urandom(8)
        packed = bytes(a ^ b for a, b in zip(secret.encode(), self._stream(nonce, len(secret.encode()))))
        return (nonce + self._seal_of(nonce + packed) + packed).hex()

    def can_open(self, sealed):
        raw = bytes.fromhex(sealed)
        return hmac.compare_digest(raw[8:16], self._seal_of(raw[:8] + raw[16:]))

    def open(self, sealed):
        raw = bytes.fromhex(sealed)
        if not self.can_open(sealed):
            raise ValueError("sealed with another key")
        return bytes(a ^ b for a, b in zip(raw[16:], self._stream(raw[:8], len(raw) - 16))).decode()

    def _stream(self, nonce, length):
        blocks = (hmac.digest(self.key, nonce + bytes([i]), hashlib.sha256) for i in range(length // 32 + 1))
        return b"".join(blocks)[:length]

    def _seal_of(self, body):
        return hmac.digest(self.key, b"seal" + body, hashlib.sha256)[:8]
