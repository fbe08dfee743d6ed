"""Iterum's own certificate authority, for the local network alone.

Made once, its key readable by the owner only, and constrained by name to private addresses and `.local`: whoever
installs it on a phone trusts it for nothing else (RFC 5280, 4.2.1.10). The server's certificate is made again when the
addresses change.
"""

import ipaddress
import os
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from iterum.services.sharing import NETWORKS

YEARS, LEAF_DAYS, RENEW_DAYS = 10, 300, 30
"""Browsers take no certificate that lasts longer than 398 days."""
_EARLIER = timedelta(days=2)
"""A phone whose clock stands a little behind believes it too."""


class Authority:
    """The authority of one folder, and certificates by it."""

    def __init__(self, folder: Path, now: datetime) -> None:
        self._key_path, self.path = folder / "authority.key", folder / "authority.crt"
        self._leaf = folder / "door.pem"
        if not (self._key_path.exists() and self.path.exists()):
            self._make(now)
        self._key: Any = serialization.load_pem_private_key(self._key_path.read_bytes(), None)
        self.certificate = x509.load_pem_x509_certificate(self.path.read_bytes())

    def _make(self, now: datetime) -> None:
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Iterum, this bench only")])
        permitted = [x509.DNSName("local"), *(x509.IPAddress(ipaddress.ip_network(net)) for net in NETWORKS)]
        certificate = (
            _begun(name, name, key, now, timedelta(days=365 * YEARS))
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(x509.NameConstraints(permitted_subtrees=permitted, excluded_subtrees=None), critical=True)
            .add_extension(_usage(signs_certificates=True), critical=True)
            .sign(key, hashes.SHA256())
        )
        _write(self._key_path, _pem_of(key))
        self.path.write_bytes(certificate.public_bytes(serialization.Encoding.PEM))

    @property
    def der(self) -> bytes:
        """The authority as phones install it."""
        return self.certificate.public_bytes(serialization.Encoding.DER)

    def server(self, addresses: tuple[str, ...], names: tuple[str, ...], now: datetime) -> Path:
        """A file with key and certificate of a server at these addresses; the one that is there as long as it fits."""
        wanted = {*addresses, *names}
        if self._leaf.exists():
            old = x509.load_pem_x509_certificate(self._leaf.read_bytes())
            said = old.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            has = {str(item.value) for item in said}
            ours = old.issuer == self.certificate.subject and self._signed(old)
            if ours and has >= wanted and old.not_valid_after_utc > now + timedelta(days=RENEW_DAYS):
                return self._leaf
        key = ec.generate_private_key(ec.SECP256R1())
        said = x509.SubjectAlternativeName(
            [*(x509.IPAddress(ipaddress.ip_address(item)) for item in addresses), *map(x509.DNSName, names)]
        )
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Iterum")])
        certificate = (
            _begun(name, self.certificate.subject, key, now, timedelta(days=LEAF_DAYS))
            .add_extension(said, critical=False)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .add_extension(_usage(signs_certificates=False), critical=True)
            .sign(self._key, hashes.SHA256())
        )
        _write(self._leaf, _pem_of(key) + certificate.public_bytes(serialization.Encoding.PEM))
        return self._leaf

    def _signed(self, certificate: x509.Certificate) -> bool:
        try:
            certificate.verify_directly_issued_by(self.certificate)
        except Exception:  # the library raises several; each means no
            return False
        return True


def fingerprint(path: Path) -> str:
    """Of the certificate in a file, SHA-256, in fours, to compare by eye: what a browser shows of the server."""
    digest = x509.load_pem_x509_certificate(path.read_bytes()).fingerprint(hashes.SHA256()).hex().upper()
    return " ".join(digest[at : at + 4] for at in range(0, len(digest), 4))


def _begun(subject: x509.Name, issuer: x509.Name, key: Any, now: datetime, lasts: timedelta) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - _EARLIER)
        .not_valid_after(now + lasts)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
    )


def _usage(signs_certificates: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not signs_certificates, key_cert_sign=signs_certificates, crl_sign=signs_certificates,
        content_commitment=False, key_encipherment=False, data_encipherment=False, key_agreement=False,
        encipher_only=False, decipher_only=False,
    )  # fmt: skip


def _pem_of(key: Any) -> bytes:
    return bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )


def _write(path: Path, data: bytes) -> None:
    """Readable by the owner alone from its first moment on."""
    path.unlink(missing_ok=True)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(data)
