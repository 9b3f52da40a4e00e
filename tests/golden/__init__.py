"""What a move of the code must not change, recorded of one version and held against another: ``make golden``.

Only what people and programs of others see is asked: the command line, the public Python names, files. Nothing here imports the
inside of the program, so that both versions can be recorded by the same lines.
"""
