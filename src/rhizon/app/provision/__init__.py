"""A new server, and updates of one: choose, reserve ports and memory, lay out in one transaction, bring up.

What is chosen comes from :mod:`rhizon.app.choose`, how a folder is changed from :mod:`rhizon.app.instance`; here is the
order in which it happens, the questions that only a new server asks (licence, secrets, seed, first start), and what a
person wishes for.

Begin with :mod:`rhizon.app.provision.provision`; ``wishes.py`` is what goes in and comes out.
"""

from rhizon.app.provision.provision import provision
from rhizon.app.provision.wishes import AskLicence, AskSecret, LicenceText, ProvisionResult, ProvisionWishes

__all__ = ["AskLicence", "AskSecret", "LicenceText", "ProvisionResult", "ProvisionWishes", "provision"]
