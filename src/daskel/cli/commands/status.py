"""`daskel status`: what runs, since when, and how far each client came."""

from __future__ import annotations

import argparse
import time

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, path_of, question, site_argument
from daskel.core.values import counted, show_duration
from daskel.system.sitefile import load

EXAMPLE = ("daskel status", "daskel status --json")


def arguments(parser: argparse.ArgumentParser) -> None:
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    answer = question(file, "status")
    if answer is None:
        if output.as_json:
            output.json({"running": False})
        else:
            output.print(f"No server runs with {file.path}.")
        return ExitCode.BAD_NEWS
    if output.as_json:
        output.json({"running": True, **answer})
        return ExitCode.GOOD
    age = show_duration(int(time.time() - answer["since"]))
    output.print(
        f"{answer['name']}: process {answer['process']} has served {answer['site']} for {age}."
    )
    if answer["server"]:
        output.print(f"It is the server {answer['server']}.")
    clients = counted(answer["clients"], "client")
    output.print(f"{clients} on {', '.join(answer['segments'])}.")
    stages = ", ".join(f"{count} at {stage}" for stage, count in answer["stages"].items())
    output.print(f"Since it started: {stages or 'no client came'}.")
    if private := answer["private"]:
        output.print(
            f"Private roots: {counted(private['admitted'], 'client')} with a key, "
            f"{private['running']} of them in use; {private['without']} without one"
            + (
                f", {private['waiting']} of which wait: daskel lobby list."
                if private["waiting"]
                else "."
            )
        )
    for aside in answer["aside"]:
        left = show_duration(max(int(aside["until"] - time.time()), 0))
        where = f"{aside['address']} of {aside['segment']}"
        output.print(f"{where} is not given out for {left}: another machine was found to have it.")
    if away := answer["away"]:
        ago = show_duration(int(time.time() - away["since"]))
        output.print(f"The store has not answered for {ago}: {away['why']}.")
    for other in (question(file, "servers") or {}).get("servers", ()) if file.database else ():
        if not other["alive"] and other["seen"]:
            output.print(f"Server {other['name']} is away; others answer its machines.")
        elif other["differs"]:
            output.print(f"Server {other['name']} has other site files: daskel servers.")
    if answer["differs"]:
        output.print("The file on disk differs: daskel apply shows how, and takes it over.")
    return ExitCode.GOOD
