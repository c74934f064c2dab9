"""Whether a signature block of an archive belongs to its signature file (Cryptographic Message Syntax, RFC 5652).

Only the arithmetic is checked, as a runtime does when it loads a class: not who signed, nor whether the certificate
is still valid.
"""

import hashlib
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from asn1crypto.cms import CMSAttributes, SignerInfo
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
    from cryptography.hazmat.primitives.hashes import HashAlgorithm

__all__ = ["DIGESTS", "BlockVerdict", "verify_block"]

# What every supported Java accepts in signatures; what is weaker makes an archive count as unsigned.
DIGESTS = ("sha256", "sha384", "sha512")
_LEAST_KEY_BITS = {"rsa": 1024, "dsa": 1024, "ec": 224}

BlockVerdict = Literal["holds", "broken", "ignored"]


def verify_block(block: bytes, signed: bytes) -> BlockVerdict:
    """``block``: the bytes of a ``.RSA``, ``.DSA`` or ``.EC`` file; ``signed``: of the ``.SF`` file beside it.

    "ignored" is what a runtime passes by: no CMS, an algorithm that is no longer accepted, a certificate that is not in
    the block. What cannot be judged here counts as that too.
    """
    from asn1crypto import cms

    try:
        content = cms.ContentInfo.load(block)
        if content["content_type"].native != "signed_data":
            return "ignored"
        data = content["content"]
        certificates = [one.chosen.dump() for one in data["certificates"] or () if one.name == "certificate"]
        verdicts = [_signer(one, certificates, signed) for one in data["signer_infos"]]
    except Exception:  # a stranger's bytes: the parsers raise what they like
        return "ignored"
    return "broken" if "broken" in verdicts else "holds" if "holds" in verdicts else "ignored"


def _signer(info: "SignerInfo", certificates: list[bytes], signed: bytes) -> BlockVerdict:
    """One signer's verdict. Raises what the libraries raise on bytes that they cannot read."""
    key = _key(info, certificates)
    digest = info["digest_algorithm"]["algorithm"].native
    if key is None or digest not in DIGESTS:
        return "ignored"
    attributes = info["signed_attrs"]
    message = signed
    if attributes:
        if _message_digest(attributes) != hashlib.new(digest, signed).digest():
            return "broken"
        message = attributes.untag().dump()  # signed as the set that it is, not under its tag in the block (5.4)
    return _signature(key, info, message)


def _key(info: "SignerInfo", certificates: list[bytes]) -> "PublicKeyTypes | None":
    """The key in the certificate that a signer names."""
    from asn1crypto import x509
    from cryptography.hazmat.primitives.serialization import load_der_public_key

    name = info["sid"]
    for one in certificates:
        known = x509.Certificate.load(one)
        if name.name == "issuer_and_serial_number":
            same = known.serial_number == name.chosen["serial_number"].native
            same = same and known.issuer == name.chosen["issuer"]
        else:
            same = known.key_identifier == name.chosen.native
        if same:
            return load_der_public_key(known.public_key.dump())
    return None


def _message_digest(attributes: "CMSAttributes") -> bytes | None:
    for one in attributes:
        if one["type"].native == "message_digest":
            value = one["values"][0].native
            return value if isinstance(value, bytes) else None
    return None


def _signature(key: "PublicKeyTypes", info: "SignerInfo", message: bytes) -> BlockVerdict:
    """Whether the signer's key signed the message, by the algorithm that the block names."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa

    known: dict[str, HashAlgorithm] = {"sha256": hashes.SHA256(), "sha384": hashes.SHA384(), "sha512": hashes.SHA512()}
    algorithm, signature = info["signature_algorithm"], info["signature"].native
    try:
        match key:
            case ed25519.Ed25519PublicKey() | ed448.Ed448PublicKey():
                key.verify(signature, message)
            case rsa.RSAPublicKey() if key.key_size >= _LEAST_KEY_BITS["rsa"]:
                if algorithm["algorithm"].native == "rsassa_pss":
                    rules = algorithm["parameters"]
                    used = known[rules["hash_algorithm"]["algorithm"].native]
                    mask = known[rules["mask_gen_algorithm"]["parameters"]["algorithm"].native]
                    salted = padding.PSS(padding.MGF1(mask), rules["salt_length"].native)
                    key.verify(signature, message, salted, used)
                else:
                    key.verify(signature, message, padding.PKCS1v15(), known[_hash_of(info)])
            case dsa.DSAPublicKey() if key.key_size >= _LEAST_KEY_BITS["dsa"]:
                key.verify(signature, message, known[_hash_of(info)])
            case ec.EllipticCurvePublicKey() if key.key_size >= _LEAST_KEY_BITS["ec"]:
                key.verify(signature, message, ec.ECDSA(known[_hash_of(info)]))
            case _:
                return "ignored"
    except InvalidSignature:
        return "broken"
    return "holds"


def _hash_of(info: "SignerInfo") -> str:
    """The hash that is signed: the one in the algorithm's name, else the digest's."""
    algorithm = info["signature_algorithm"]
    try:
        name = algorithm.hash_algo
    except ValueError:
        name = info["digest_algorithm"]["algorithm"].native
    return str(name)
