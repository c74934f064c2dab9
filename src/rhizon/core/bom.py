"""What runs, as a software bill of materials: CycloneDX 1.6 (ECMA-424) in JSON. Same instance, same bytes."""

import uuid

from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock, LockedFile

__all__ = ["bill_of_materials"]

_NAMESPACE = uuid.UUID("5e8f4e4c-6f39-5cb0-8f0c-2a2b64c1d9a7")  # ours; a serial number is made from the bill's content


def bill_of_materials(lock: Lock, instance: Instance) -> bytes:
    """The server program, the loader build, the runtime and every release, each with its hash, origin and what needs
    it. It holds no time and no secret."""
    from cyclonedx.model import HashAlgorithm, HashType, Property
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component, ComponentType
    from cyclonedx.output.json import JsonV1Dot6

    def component(sort: ComponentType, name: str, version: str, file: LockedFile | None, **facts: str) -> Component:
        if file is not None:
            facts |= {"catalog": file.catalog, "path": file.path, "size": str(file.size)}
        return Component(
            type=sort,
            name=name,
            version=version,
            bom_ref=f"{name}@{version}",
            hashes=[HashType(alg=HashAlgorithm.SHA_256, content=file.sha256)] if file is not None else [],
            properties=[Property(name=f"rhizon:{key.replace('_', '-')}", value=value) for key, value in facts.items()],
        )

    target = lock.target
    server = component(ComponentType.APPLICATION, target.game, target.game_version, lock.server)
    bases = [server]
    if lock.loader is not None:
        build = str(target.loader_build)
        bases.append(component(ComponentType.FRAMEWORK, target.loader, build, lock.loader.file))
    parts = {
        one.id: component(
            ComponentType.LIBRARY,
            one.id,
            str(one.version),
            one.file,
            kind=one.kind,
            placement=one.placement,
            on_server="yes" if one.on_server else "no",
            for_players="yes" if one.for_players else "no",
        )
        for one in lock.releases
    }
    bom = Bom(components=[*bases, *parts.values()])
    root = Component(type=ComponentType.APPLICATION, name=lock.name, bom_ref=f"server {lock.name}")
    bom.metadata.component = root
    bom.metadata.timestamp = None  # type: ignore[assignment]  # the standard lets it out, and the same is to be the same
    runtime = instance.runtime
    if runtime is not None:
        platform = component(ComponentType.PLATFORM, runtime.family, runtime.version, None)
        bom.components.add(platform)
        bom.register_dependency(server, [platform])
    needed: dict[str, list[Component]] = {}
    for one in lock.releases:
        for needs in one.because:
            needed.setdefault(needs, []).append(parts[one.id])
    bom.register_dependency(root, [*bases, *needed.get("list", [])])
    for name, part in parts.items():
        bom.register_dependency(part, needed.get(name, []))
    bom.serial_number = uuid.uuid5(_NAMESPACE, ",".join(sorted(str(one.bom_ref) for one in bom.components)))
    return JsonV1Dot6(bom).output_as_string(indent=2).encode() + b"\n"
