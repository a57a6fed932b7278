"""The command line. Each command is a few lines; the work is done below."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from zerotilt import lean
from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.house import house, progress

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, help="Zero Tilt")

REFUSED, FLAGGED, UNTESTED = 2, 3, 4
BESIDES = "NAME=FILE: what some methods read besides table and model; may be repeated"


@app.command()
def audit(
    settings: Annotated[
        Path | None,
        typer.Argument(help="File of settings (TOML), as Intake writes it; says all but rows", show_default=False),
    ] = None,
    table: Annotated[Path | None, typer.Option(help="Table of cases: CSV, Parquet or Arrow/Feather")] = None,
    event: Annotated[
        str | None,
        typer.Option(help="Value of the outcome whose probability the score is, where the outcome has two values"),
    ] = None,
    group: Annotated[list[str] | None, typer.Option(help="COLUMN or COLUMN:REFERENCE; several may be given")] = None,
    out: Annotated[Path | None, typer.Option(help="Folder for report.html and audit.json")] = None,
    outcome: Annotated[
        str | None,
        typer.Option(
            help="Column that says what happened; without one, decisions are counted and nothing is said of errors"
        ),
    ] = None,
    model: Annotated[Path | None, typer.Option(help="Trained model as ONNX")] = None,
    score: Annotated[str | None, typer.Option(help="Column with recorded scores instead of a model")] = None,
    score_top: Annotated[float, typer.Option(min=1e-9, help="What recorded scores run to, from 0")] = 1.0,
    decision: Annotated[str | None, typer.Option(help="Column with recorded decisions instead of a model")] = None,
    means: Annotated[
        list[str] | None,
        typer.Option(help="DECISION=VALUE: the outcome's value that a recorded decision stands for; may be repeated"),
    ] = None,
    favourable: Annotated[
        str | None, typer.Option(help="Outcome value whose prediction is the favourable decision, or event, or other")
    ] = None,
    threshold: Annotated[
        float, typer.Option(min=0.0, max=1.0, help="The event is predicted at this score or above")
    ] = 0.5,
    ignore: Annotated[list[str] | None, typer.Option(help="Column to leave out; several may be given")] = None,
    weights: Annotated[str | None, typer.Option(help="Column of row weights")] = None,
    order: Annotated[
        str | None,
        typer.Option(help="The outcome's classes from lowest to highest, by commas, where they have an order"),
    ] = None,
    rows: Annotated[int | None, typer.Option(min=1, max=100_000, help="Rows read by each explanation")] = None,
    split: Annotated[str | None, typer.Option(help="COLUMN or COLUMN:VALUE; only held-out rows are audited")] = None,
    where: Annotated[
        list[str] | None,
        typer.Option(
            help="Only rows that meet this: column=level|level, column>number, column<=number; may be repeated"
        ),
    ] = None,
    pick: Annotated[
        list[str] | None, typer.Option(help="Only this row, by its identifier or number; may be repeated")
    ] = None,
    segment: Annotated[
        str, typer.Option(help="Only rows of a segment: 'NAME: conditions', joined by and, or, not; or a saved NAME")
    ] = "",
    model_inputs: Annotated[
        str | None, typer.Option(help="For a model of one tensor: its columns in their order, by commas")
    ] = None,
    model_outputs: Annotated[
        str | None,
        typer.Option(help="Where the file does not tell: the outcome values its probabilities are of, in their order"),
    ] = None,
    against: Annotated[
        Path | None, typer.Option(help="audit.json of an earlier audit; then only what has grown since fails")
    ] = None,
    grown_by: Annotated[
        float | None,
        typer.Option(min=0.0, help="With --against: tolerances by which no gap may grow, whatever its interval says"),
    ] = None,
    input_: Annotated[list[str] | None, typer.Option("--input", help=BESIDES)] = None,
    junit: Annotated[Path | None, typer.Option(help="Write JUnit XML, one case for each rule of the policy")] = None,
) -> None:
    """Audit a table and a model; write the report and the numbers.

    Exits 0 (nothing flagged; with --against, nothing has grown), 3 (something is, or has), 4 (nothing could be tested) or
    2 (refused).
    """
    from zerotilt.asked import Request
    from zerotilt.headless import audit as run
    from zerotilt.headless import named_files, opened_settings

    if grown_by is not None and against is None:
        typer.echo(
            "refused: --grown-by: it says how much may grow since a baseline, and none was given. Give --against.",
            err=True,
        )
        raise typer.Exit(REFUSED)
    said = {
        "--event": event, "--group": group, "--outcome": outcome, "--score": score, "--decision": decision, "--means": means,
        "--favourable": favourable, "--ignore": ignore, "--split": split, "--weights": weights, "--order": order,
    }  # fmt: skip
    try:
        found = opened_settings(settings, table, model, out, [name for name, value in said.items() if value])
        request = Request(
            table=found.table,
            outcome=outcome,
            event=event,
            groups=group or (),
            out=found.out,
            settings=found.settings,
            model=found.model,
            score=score,
            score_top=score_top,
            decision=decision,
            means=means or (),
            favourable=favourable,
            threshold=threshold,
            ignore=ignore or (),
            weights=weights,
            order=_listed(order),
            explained=rows,
            split=split,
            where=where or (),
            picked=pick or (),
            segment=segment,
            model_inputs=_listed(model_inputs),
            model_outputs=_listed(model_outputs),
            against=against,
            grown_by=grown_by,
            inputs={**found.inputs, **named_files(input_ or ())},
            junit=junit,
        )
        done = run(request, Work(progress if sys.stderr.isatty() else None))
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    if sys.stderr.isatty():
        typer.echo("\r\x1b[K", err=True, nl=False)
    for text in done.unfit:
        typer.echo(f"{text}", err=True)
    if done.favourable and favourable is None:
        typer.echo(done.favourable)
    for text in done.flagged:
        typer.echo(f"flagged: {text}")
    if not done.tested:
        typer.echo(f"nothing could be tested: {done.wanting}.")
    typer.echo(
        f"{len(done.flagged)} of {done.comparisons} comparisons flagged, {done.tested} tested; "
        f"gathered into {words.plural(done.findings, 'finding')}. "
        f"Report: {request.out / 'report.html'}, numbers: {request.out / 'audit.json'}"
    )
    fails = bool(done.flagged)
    if done.held is not None:
        for one in done.held.grown:
            typer.echo(f"grown: {one.sentence}")
        typer.echo(
            f"Against {against}: {words.plural(done.held.compared, 'comparison')} of both, {len(done.held.grown)} grown or new; "
            f"{words.count(done.held.only_before)} of the baseline not made now."
        )
        fails = bool(done.held.grown)
    raise typer.Exit(UNTESTED if not done.tested else FLAGGED if fails else 0)


def _listed(given: str | None) -> tuple[str, ...]:
    return tuple(one.strip() for one in given.split(",")) if given else ()


@app.command()
def explain(
    table: Annotated[Path, typer.Option(help="Rows to explain: CSV, Parquet or Arrow/Feather, of any length")],
    model: Annotated[Path, typer.Option(help="Trained model as ONNX")],
    out: Annotated[Path, typer.Option(help="Parquet file for the contributions")],
    outcome: Annotated[str | None, typer.Option(help="Column that says what happened, where one does")] = None,
    event: Annotated[str, typer.Option(help="Value of the outcome whose probability the model gives")] = "",
    task: Annotated[
        str | None,
        typer.Option(help="binary, several classes, ordered classes or regression; by the outcome when left out"),
    ] = None,
    log_odds: Annotated[
        bool, typer.Option("--log-odds", help="Explain the log-odds instead of the probability")
    ] = False,
    background: Annotated[int, typer.Option(min=1, help="Rows of the table that each row is compared with")] = 10_000,
    identifier: Annotated[
        list[str] | None, typer.Option(help="Column that names the rows, written beside; guessed when left out")
    ] = None,
    cluster: Annotated[str | None, typer.Option(help="Address of a Dask scheduler, tcp://host:port")] = None,
) -> None:
    """Contributions of every row of a table, read and written in pieces."""
    from zerotilt.headless import explain_table

    telling = progress if sys.stderr.isatty() else None
    try:
        found = explain_table(
            table,
            model,
            outcome,
            out,
            event or None,
            task,
            "log-odds" if log_odds else "probability",
            background,
            cluster,
            telling,
            identifier or (),
        )
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    if sys.stderr.isatty():
        typer.echo("\r\x1b[K", err=True, nl=False)
    typer.echo(
        f"{found.rows:,} rows explained against {found.background:,}: {out}. Baseline {found.baseline:.6g}. {found.why}"
        + (f" {found.sampled:,} rows were sampled, since the model is no sum there." if found.sampled else "")
    )


@app.command()
def read(
    method: Annotated[
        str, typer.Argument(help="Name of a method, as in docs/formats and the notebook: tilt, drivers …")
    ],
    table: Annotated[Path, typer.Option(help="Table of cases: CSV, Parquet or Arrow/Feather")],
    model: Annotated[Path | None, typer.Option(help="Trained model as ONNX")] = None,
    score: Annotated[str | None, typer.Option(help="Column with recorded scores instead of a model")] = None,
    decision: Annotated[str | None, typer.Option(help="Column with recorded decisions instead of a model")] = None,
    outcome: Annotated[str | None, typer.Option(help="Column that says what happened, where one does")] = None,
    event: Annotated[str, typer.Option(help="Value of the outcome whose probability the model gives")] = "",
    group: Annotated[list[str] | None, typer.Option(help="Column whose groups are compared; may be repeated")] = None,
    set_: Annotated[list[str] | None, typer.Option("--set", help="A setting as name=value; may be repeated")] = None,
    where: Annotated[
        list[str] | None,
        typer.Option(
            help="Only rows that meet this: column=level|level, column>number, column<=number; may be repeated"
        ),
    ] = None,
    pick: Annotated[
        list[str] | None, typer.Option(help="Only this row, by its identifier or number; may be repeated")
    ] = None,
    segment: Annotated[
        str, typer.Option(help="Only rows of a segment: 'NAME: conditions', joined by and, or, not; or a saved NAME")
    ] = "",
    input_: Annotated[list[str] | None, typer.Option("--input", help=BESIDES)] = None,
    out: Annotated[
        Path | None, typer.Option(help="File for the records behind the figure: .csv, .parquet, .json")
    ] = None,
) -> None:
    """Read one method and print what it says."""
    _read(method, table, model, outcome, event, group, set_, where, pick, segment, out, score, decision, input_)


def _read(
    method, table, model, outcome, event, group, given, where, pick, segment, out, score, decision, inputs=()
) -> None:
    from zerotilt.headless import read_method

    telling = progress if sys.stderr.isatty() else None
    try:
        said = read_method(
            method,
            table,
            model,
            outcome,
            event or None,
            group or [],
            given or [],
            where or [],
            pick or [],
            segment,
            out,
            telling,
            score,
            decision,
            inputs or (),
        )
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    if sys.stderr.isatty():
        typer.echo("\r\x1b[K", err=True, nl=False)
    typer.echo(said)


@app.command()
def pockets(
    table: Annotated[Path, typer.Option(help="Table of cases: CSV, Parquet or Arrow/Feather")],
    outcome: Annotated[str, typer.Option(help="Column that says what happened")],
    model: Annotated[Path | None, typer.Option(help="Trained model as ONNX")] = None,
    score: Annotated[str | None, typer.Option(help="Column with recorded scores instead of a model")] = None,
    decision: Annotated[str | None, typer.Option(help="Column with recorded decisions instead of a model")] = None,
    event: Annotated[str, typer.Option(help="Value of the outcome whose probability the score is")] = "",
    error: Annotated[str, typer.Option(help="error_rate, log_loss, too_high …; the usual error when left out")] = "",
    column: Annotated[list[str] | None, typer.Option(help="Only this column is looked at; may be repeated")] = None,
    deep: Annotated[int, typer.Option(min=1, max=3, help="Most conditions of a pocket")] = 3,
    group: Annotated[
        list[str] | None, typer.Option(help="Column whose groups may be a pocket; may be repeated")
    ] = None,
    where: Annotated[list[str] | None, typer.Option(help="Only rows that meet this; may be repeated")] = None,
    out: Annotated[Path | None, typer.Option(help="File for every place: .csv, .parquet, .json")] = None,
) -> None:
    """Search where errors are denser in one half of the rows, and confirm it in the other."""
    given = {"error": error, "columns": column or [], "deep": deep}
    _read("pockets", table, model, outcome, event, group, [f"{name}={json.dumps(value)}" for name, value in given.items()],
          where, [], "", out, score, decision)  # fmt: skip


@app.command()
def train(
    recipes: Annotated[
        Path, typer.Argument(help="File of recipes (TOML): table, settings, how rows are dealt, candidates")
    ],
    out: Annotated[Path, typer.Option(help="Folder for the model files and what they are worth")] = Path("candidates"),
    cluster: Annotated[str | None, typer.Option(help="Address of a Dask scheduler, tcp://host:port")] = None,
) -> None:
    """Train candidates, each validated on held-out folds and written as a model file."""
    from zerotilt.trained import train_file

    telling = progress if sys.stderr.isatty() else None
    found = _told(lambda: train_file(recipes, cluster, telling))
    found.save(out)
    _beside(found, "", "", "", "", "")
    typer.echo(f"{words.plural(len(found.made), 'candidate')} in {out}.")


@app.command()
def compare(
    folder: Annotated[Path, typer.Argument(help="Folder that ./zt train wrote")],
    metric: Annotated[str, typer.Option(help="What they are ordered by: log_loss, auc, accuracy …")] = "",
    gap: Annotated[str, typer.Option(help="Metric whose gap between groups stands beside: selection_rate …")] = "",
    column: Annotated[str, typer.Option(help="Column of the groups; the first when empty")] = "",
    group: Annotated[str, typer.Option(help="Group; the farthest when empty")] = "",
    reference: Annotated[str, typer.Option(help="Group that it is held against; the largest when empty")] = "",
    table: Annotated[Path | None, typer.Option(help="Also every version on the held-out rows of this table")] = None,
    base: Annotated[str, typer.Option(help="Version that others are held against there; the leader when empty")] = "",
    out: Annotated[Path | None, typer.Option(help="File for the table: .csv, .parquet or .json")] = None,
) -> None:
    """Set candidates beside each other: what is told apart, the gap beside, and what remedies did."""
    from zerotilt.headless import write_records
    from zerotilt.trained import Candidates, compared_on

    found = _told(lambda: Candidates.open(folder))
    how = {"metric": metric, "gap": gap, "column": column, "group": group, "reference": reference}
    if out is not None:
        _told(lambda: write_records(found.table(**how), out))
    _told(lambda: _beside(found, *how.values()))
    if table is not None:
        typer.echo(_told(lambda: compared_on(found, table, base, progress if sys.stderr.isatty() else None)))


def _beside(found, metric: str, gap: str, column: str, group: str, reference: str) -> None:
    typer.echo(found.reading(metric=metric, gap=gap, column=column, group=group, reference=reference))


def _told(done):
    """What came of it; a refusal is said, and ends the command."""
    try:
        found = done()
    except Refused as problem:
        typer.echo(f"refused: {problem.sentence()}", err=True)
        raise typer.Exit(REFUSED) from None
    if sys.stderr.isatty():
        typer.echo("\r\x1b[K", err=True, nl=False)
    return found


app.add_typer(house)
SEVERAL = ("--group", "--input", "--ignore", "--set", "--means", "--identifier", "--column")


def spread(arguments: list[str]) -> list[str]:
    """``--group a b`` as ``--group a --group b``: options that may be repeated may also be given several values."""
    out: list[str] = []
    option = None
    for place, argument in enumerate(arguments):
        if argument in SEVERAL:
            option = argument
        elif argument.startswith("--"):
            option = None
        elif option is not None and place and arguments[place - 1] != option:
            out.append(option)
        out.append(argument)
    return out


def main() -> None:
    lean.leave_out()
    app(spread(sys.argv[1:]))


if __name__ == "__main__":
    main()
