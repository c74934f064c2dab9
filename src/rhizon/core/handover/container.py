"""A container file (as podman build, buildah and docker build read it): two stages, no root, no network at run time."""

from rhizon.core.handover.deployment import BACKUPS, DATA, IMAGE_FILES, PROGRAM, USER, Deployment

__all__ = ["container_files"]


def container_files(one: Deployment, *, wheels: bool) -> dict[str, str]:
    """``Containerfile`` and ``.containerignore`` by name. The lock, the archives, the definitions, and with ``wheels``
    Rhizon's own packages are beside it."""
    if wheels:
        get = [
            "COPY wheels/ /wheels/",
            "RUN /opt/rhizon/bin/pip install --no-compile --no-cache-dir --no-index --find-links /wheels rhizon",
        ]
    else:
        get = [
            f"ARG RHIZON=rhizon=={one.version}",
            'RUN /opt/rhizon/bin/pip install --no-compile --no-cache-dir "$RHIZON"',
        ]
    runs = [PROGRAM, *one.provision_words(f"{IMAGE_FILES}/server.lock.json"), "--foreground"]
    lines = [
        f"# {one.title or one.name}, made by rhizon {one.version}. Build it with a base image that has Python 3.11 or",
        "# newer (with venv) and the server's runtime; the same inputs give the same image:",
        f"#   podman build --build-arg BASE=IMAGE --timestamp 0 -t {one.image} .",
        "ARG BASE",
        "FROM ${BASE} AS program",
        "RUN python3 -m venv --copies /opt/rhizon",
        *get,
        "# compiled anew by content, not by time: the same files each time",
        "RUN find /opt/rhizon -name __pycache__ -prune -exec rm -rf {} + && \\",
        "    /opt/rhizon/bin/python -m compileall -q -j 1 --invalidation-mode unchecked-hash /opt/rhizon/lib",
        "",
        "FROM ${BASE}",
        "COPY --from=program /opt/rhizon /opt/rhizon",
        f"COPY server.lock.json {IMAGE_FILES}/",
        f"COPY server.archives/ {IMAGE_FILES}/server.archives/",
        f"COPY config/ {IMAGE_FILES}/config/",
        f"RUN mkdir -p {DATA} {BACKUPS} && chown {USER}:{USER} {DATA} {BACKUPS}",
        *(f'ENV {name}="{value}"' for name, value in one.environment.items()),
        'ENV PYTHONDONTWRITEBYTECODE="1"',
        f'LABEL org.opencontainers.image.title="{_quoted(one.title or one.name)}"',
        f"VOLUME {DATA} {BACKUPS}",
        f"USER {USER}:{USER}",
        f"WORKDIR {DATA}",
        "STOPSIGNAL SIGTERM",
        *(
            f"EXPOSE {port.number}/{protocol}"
            for port in one.ports
            for protocol in port.protocols
        ),
        f"CMD {_words(runs)}",
        "",
    ]  # fmt: skip
    return {"Containerfile": "\n".join(lines)}


def _words(words: list[str]) -> str:
    return "[" + ", ".join(f'"{_quoted(word)}"' for word in words) + "]"


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("$", "\\$").replace("\n", " ")
