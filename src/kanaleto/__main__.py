from kanaleto.cli.entry import run

run()
