from kanaleto.cli.main import run

run()
