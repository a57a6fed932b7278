"""Commands about the house: starting and ending it, its files, its records, archives of audits."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from zerotilt import key
from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

house = typer.Typer()
REFUSED, DIFFERENT = 2, 3


def progress(done: int, total: int, what: str) -> None:
    typer.echo(f"\r\x1b[K{what} {done / total:.0%}", err=True, nl=False)


def _run(with_demo: bool) -> None:
    """Start everything in the foreground; Ctrl-C or ``zt stop`` ends it."""
    from zerotilt.services.home import Home
    from zerotilt.services.supervisor import Supervisor

    home = Home()
    if running := home.running():
        typer.echo(f"Zero Tilt is running already: {key.entrance(running['url'], home.key)}")
        return
    supervisor = Supervisor(home)
    try:
        supervisor.start()
        if with_demo:
            supervisor.load_demo()
    except BaseException:
        supervisor.stop()
        raise
    supervisor.heed()
    said, todo = supervisor.models
    if todo:
        typer.echo(f"Note: {said}. {todo}")
    typer.echo(f"Zero Tilt is running: {supervisor.entrance}   (Ctrl-C ends it)")
    supervisor.watch()
    typer.echo("Everything that was started has ended.")


@house.command()
def start() -> None:
    """Start the database, the worker and the server."""
    _run(with_demo=False)


@house.command()
def demo() -> None:
    """Start everything, with the demo audit in it."""
    _run(with_demo=True)


@house.command()
def stop() -> None:
    """End what was started."""
    from zerotilt.services.home import Home
    from zerotilt.services.supervisor import stop_running

    typer.echo("Stopped." if stop_running(Home()) else "Nothing was running.")


@house.command()
def address() -> None:
    """Print the address that opens Zero Tilt in a browser, with its key."""
    from zerotilt.services.home import Home

    home = Home()
    running = home.running()
    if not running or "url" not in running:
        typer.echo(f"Nothing runs from {home.folder}.", err=True)
        raise typer.Exit(REFUSED)
    typer.echo(key.entrance(running["url"], home.key))


@house.command()
def files(
    folder: Annotated[Path, typer.Option(help="Where the files are kept")],
    login: Annotated[str, typer.Option(help="name:password that everybody must give", envvar="ZT_FILES_LOGIN")],
    host: Annotated[str, typer.Option(help="Address to listen on; this machine alone when left out")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=1, max=65_535)] = 8430,
) -> None:
    """Keep stored files for other machines, who name this host in ZT_FILES."""
    import uvicorn

    from zerotilt.services.file_host import create
    from zerotilt.store.files import FileStore

    if not all(login.partition(":")):
        typer.echo("--login: it is written as name:password.", err=True)
        raise typer.Exit(REFUSED)
    os.umask(0o077)
    typer.echo(f"Files of {folder} are kept at http://{host}:{port}/")
    uvicorn.run(create(FileStore(folder), login), host=host, port=port, log_level="warning", server_header=False)


@house.command()
def check(
    tidy: Annotated[bool, typer.Option("--tidy", help="Remove files that belong to no record")] = False,
) -> None:
    """Verify that every record's file is whole and every file has a record. Exits 1 when not."""
    from zerotilt.store import check as verify
    from zerotilt.stored import opened

    try:
        with opened() as files:
            if tidy:
                removed = sum(verify.discard_unowned(files, digest) for digest in list(files.digests()))
                typer.echo(f"{removed} files removed that belonged to no record.")
            problems, verified = verify.check(files)
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    for problem in problems:
        typer.echo(problem)
    typer.echo(f"{verified} files verified, {len(problems)} problems.")
    raise typer.Exit(1 if problems else 0)


@house.command()
def reproduce(
    report: Annotated[str, typer.Argument(help="AUDIT/NUMBER, by title or identity; or the digest of a report")],
) -> None:
    """Compute every figure of a written report again, and say which differ and by how much.

    Exits 0 (all are the same), 1 (some differ), or 2 (some, or all, could not be computed again).
    """
    from zerotilt.stored import opened, report_named
    from zerotilt.stored import reproduce as run

    done, title = [], ""
    try:
        with opened() as files:
            found = report_named(report)
            title = f"Report {found.number} of “{found.audit.title}”"
            for one in run(found, files, Work(progress if sys.stderr.isatty() else None)):
                if sys.stderr.isatty():
                    typer.echo("\r\x1b[K", err=True, nl=False)
                typer.echo(one.sentence)
                done.append(one)
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    differ = sum(bool(one.compared and one.compared.differences) for one in done)
    left = sum(one.compared is None for one in done)
    typer.echo(
        f"{title}: {words.plural(len(done), 'figure')}; {len(done) - differ - left} the "
        f"same, {differ} differ, {left} not computed again."
    )
    raise typer.Exit(REFUSED if left else 1 if differ else 0)


@house.command()
def export(
    audit: Annotated[str, typer.Argument(help="By its title or identity")],
    file: Annotated[Path, typer.Argument(help="Archive to be written, .zip")],
) -> None:
    """Write one audit into one archive: records as JSON, tables, models, reports, signatures."""
    from zerotilt.store import archive
    from zerotilt.stored import audit_named, opened, written_whole

    try:
        with opened() as files:
            found = audit_named(audit)
            with written_whole(file) as sink:
                number = archive.export(found, files, sink)
            said = f"“{found.title}”: {archive.said(found)}"
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    typer.echo(f"{said}, {words.plural(number, 'file')}: {file}")


@house.command(name="import")
def import_(file: Annotated[Path, typer.Argument(help="Archive that ./zt export wrote")]) -> None:
    """Restore an audit from an archive, equal by every digest. Import only what you would open otherwise, too."""
    from zerotilt.store import archive
    from zerotilt.stored import opened

    try:
        source = file.open("rb")
    except OSError as problem:
        typer.echo(f"refused: {file}: The file cannot be read: {problem.strerror}.", err=True)
        raise typer.Exit(REFUSED) from None
    try:
        with source, opened() as files:
            found = archive.restore(source, files)
            said = f"“{found.title}”: {archive.said(found)}"
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    typer.echo(f"{said} restored.")
