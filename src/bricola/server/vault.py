"""The vault: credentials sealed with a key that is not in the store.

The key comes from the environment variable BRICOLA_KEY, or from a file beside the store that is made at the first
start and readable by its owner only. Sealing is Fernet (AES-128-CBC with HMAC-SHA256) of the `cryptography` package.
Several keys, one a line or separated by commas: the first seals, all of them open, which is how a key is renewed.
"""

import os
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from cryptography import x509
from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from bricola.adapters.secrets import Secret
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.store.credentials import CredentialPlace, StoredCredential, StoredVersion

KEY_VARIABLE = "BRICOLA_KEY"
_KNOWN = b"bricola"


def _moment(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


class Vault:
    """Seals and opens secrets. `now` gives seconds since 1970. A key is made only where nothing was sealed yet."""

    def __init__(self, file: Path, now: Callable[[], float] = time.time, may_make: bool = True) -> None:
        self._may_make = may_make
        self._file = file
        self._now = now
        self._from_variable = bool(os.environ.get(KEY_VARIABLE))
        self._credentials: dict[str, StoredCredential] = {}
        self._uses: dict[str, float] = {}
        self._places: frozenset[CredentialPlace] = frozenset()
        self._coming = ""  # the key that the store is being sealed with
        self._keys = self._read_keys()
        self._fernet = MultiFernet([Fernet(key) for key in self._keys])

    @property
    def source(self) -> str:
        return f"the environment variable {KEY_VARIABLE}" if self._from_variable else str(self._file)

    def _read_keys(self) -> list[str]:
        if self._from_variable:
            text = os.environ[KEY_VARIABLE]
        else:
            try:
                text = self._file.read_text()
            except FileNotFoundError:
                if not self._may_make:
                    raise self._wrong_key("there is no such file") from None
                text = Fernet.generate_key().decode()
                self._write_keys([text])
            except (OSError, UnicodeDecodeError) as error:
                raise self._wrong_key(str(error)) from None
        keys = text.replace(",", " ").split()
        try:
            for key in keys:
                Fernet(key)
        except ValueError:
            raise self._wrong_key("what is there is not a key") from None
        if not keys:
            raise self._wrong_key("it is empty")
        return keys

    def _write_keys(self, keys: list[str]) -> None:
        new = self._file.with_name(f"{self._file.name}.new")
        with os.fdopen(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as stream:
            stream.write("\n".join(keys) + "\n")
            stream.flush()
            os.fsync(stream.fileno())
        new.replace(self._file)

    def _wrong_key(self, found: str) -> ProblemError:
        return ProblemError(Problem(
            "vault.key", "The credentials cannot be opened with this key.", Kind.INTERNAL, place=self.source,
            expected="the key that sealed them, 44 characters of URL-safe base64", found=found,
            mend=f"Restore the key file, or set {KEY_VARIABLE}. Without the key, remove the credentials and enter them anew."))

    def new_check(self) -> bytes:
        return self._fernet.encrypt(_KNOWN)

    def verify(self, check: bytes) -> None:
        """Raises ProblemError when this is not the key that sealed the store."""
        try:
            self._fernet.decrypt(check)
        except InvalidToken:
            raise self._wrong_key("another key") from None

    def seal(self, secret: str) -> bytes:
        return self._fernet.encrypt(secret.encode())

    def unseal(self, sealed: bytes) -> str:
        """Raises ProblemError when another key sealed it."""
        try:
            return self._fernet.decrypt(sealed).decode()
        except InvalidToken:
            raise self._wrong_key("another key") from None

    @contextmanager
    def renewing(self) -> Iterator[Callable[[bytes], bytes]]:
        """Gives what seals something anew with a new key; done inside the transaction that stores it. The file has both keys from
        before that until `renewed`, so that a crash or a full disk in between loses nothing."""
        if self._from_variable:
            if len(self._keys) < 2:
                raise ProblemError(Problem(
                    "vault.variable", f"The key comes from {KEY_VARIABLE}, which only its owner can change.", Kind.CONFLICT,
                    place=KEY_VARIABLE, mend="Put a new key before the old one, separated by a comma, restart, and say this again."))
            yield self._fernet.rotate
            return
        new = Fernet.generate_key().decode()
        self._write_keys([new, *self._keys])
        # What is sealed after this transaction is sealed with the new key, whenever that is said to be the only one.
        both = self._fernet = MultiFernet([Fernet(key) for key in (new, *self._keys)])
        yield both.rotate
        self._coming = new

    def renewed(self) -> None:
        """What was sealed anew is stored: the old keys are forgotten."""
        if self._coming:
            self._keys, self._fernet, self._coming = [self._coming], MultiFernet([Fernet(self._coming)]), ""
            self._write_keys(self._keys)

    def load(self, credentials: Iterable[StoredCredential]) -> None:
        """Take effect at once for every session that is opened from now on."""
        self._credentials = {one.name: one for one in credentials}

    def place(self, places: Iterable[CredentialPlace]) -> None:
        """Where each credential may be presented, from now on."""
        self._places = frozenset(places)

    def require_places(self, wanted: Iterable[CredentialPlace]) -> None:
        """Raises ProblemError for a place at which an admin has not said that the credential may be presented. Whoever may write an
        environment could otherwise have any secret sent to a server of his own."""
        problems = [Problem(
            "credential.place", f"The credential {one.credential} may not be presented there.", Kind.PERMISSION,
            place=f"environment {one.environment}", found=f"{one.engine} at {one.address}", expected="a place that an admin agreed to",
            mend=f"An admin agrees: bricola credentials allow {one.credential} {one.environment}")
            for one in wanted if one not in self._places]
        if problems:
            raise ProblemError(*problems)

    def secrets(self, credential: str) -> list[Secret]:
        found = self._credentials.get(credential)
        if found is None:
            raise ProblemError(Problem(
                "credential.unknown", "A backend's credential does not exist.", Kind.BACKEND, found=shown(credential),
                mend=f"Add it: bricola credentials add {credential}", inner=f"credential {credential}"))
        able = self._able(found)
        if not able:
            raise ProblemError(Problem(
                "credential.expired", "A backend's credential has expired.", Kind.BACKEND,
                mend=f"Replace it: bricola credentials rotate {credential}", inner=f"credential {credential}"))
        return [Secret(found.kind, one.user, self.unseal(one.sealed), one.certificate) for one in able]

    def lack(self, credential: str) -> str:
        """Why nobody can sign on with it now; '' where somebody can."""
        found = self._credentials.get(credential)
        if found is None:
            return "does not exist"
        return "" if self._able(found) else "has expired"

    def _able(self, found: StoredCredential) -> list[StoredVersion]:
        """The versions that may be presented now."""
        now = self._now()
        return [one for one in found.versions if (one.ends_at is None or _moment(one.ends_at) > now)
                and (one.expires_at is None or _moment(one.expires_at) > now)]

    def used(self, credential: str) -> None:
        self._uses[credential] = self._now()

    def uses(self) -> list[tuple[float, str]]:
        """(last sign-on, credential) since this was asked before."""
        found = [(at, name) for name, at in self._uses.items()]
        self._uses = {}
        return found


def read_key_pair(key: str, certificate: str) -> str:
    """When the certificate of a key pair expires, as ISO 8601. Raises ProblemError when they do not belong together."""
    try:
        private = load_pem_private_key(key.encode(), None)
        public = x509.load_pem_x509_certificate(certificate.encode())
    except (ValueError, TypeError) as error:
        raise ProblemError(Problem("credential.key-pair", "The key or the certificate cannot be read.", place="certificate",
                                   expected="an unencrypted private key and a certificate, both in PEM", found=str(error)[:120])) from None
    if private.public_key() != public.public_key():
        raise ProblemError(Problem("credential.key-pair", "The certificate does not belong to the private key.",
                                   place="certificate", mend="Give the two files of one pair."))
    return public.not_valid_after_utc.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
