"""Provision an instance: choose, hold ports and memory, lay out in one transaction, bring up."""

from rhizon.app.provision.provision import provision
from rhizon.app.provision.wishes import AskLicence, AskSecret, LicenceText, ProvisionResult, ProvisionWishes

__all__ = ["AskLicence", "AskSecret", "LicenceText", "ProvisionResult", "ProvisionWishes", "provision"]
