"""``rhizon metrics``."""

import time
from pathlib import Path

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import LISTEN

__all__ = ["metrics"]


@command(
    "metrics",
    examples=(
        ("rhizon metrics", "print them once"),
        ("rhizon metrics --listen 127.0.0.1:9870", "answer a monitoring system, until Ctrl-C"),
        ("rhizon metrics --textfile /var/lib/metrics/rhizon.prom", "for an exporter that reads files; from a timer"),
    ),
)
@click.option("--listen", type=LISTEN, metavar="ADDRESS:PORT", help="Answer over HTTP there, until Ctrl-C.")
@click.option(
    "--textfile", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Write them to this file."
)
def metrics(call: Call, listen: tuple[str, int] | None, textfile: Path | None) -> Answer:
    """Print figures of all servers in the OpenMetrics text format: state, memory, processor, restarts, backups.

    Alert rules for Prometheus: rhizon help life.
    """
    from rhizon.app.run.metrics import MetricsResult, metrics_registry, serve_metrics, write_metrics
    from rhizon.cli.terminal import stop_signals

    if textfile is not None:
        write_metrics(call.host, textfile)
        return Answer(MetricsResult(textfile=str(textfile)), f"written to {textfile}")
    if listen is not None:
        server = serve_metrics(call.host, *listen)
        address = f"http://{listen[0]}:{server.server_port}/metrics"
        call.reporter.step(f"answering at {address}")
        with stop_signals() as asked:
            while not asked():
                time.sleep(0.2)
        server.shutdown()
        call.close()
        return Answer(MetricsResult(address=address), "stopped answering")
    registry = metrics_registry(call.host)
    from prometheus_client import generate_latest

    text = generate_latest(registry).decode()
    return Answer(
        MetricsResult(text=text), "", lambda to: to.print(text, markup=False, highlight=False, soft_wrap=True, end="")
    )
