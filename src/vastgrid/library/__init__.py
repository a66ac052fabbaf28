"""The engine from a script: what `import vastgrid as vg` gives, made from the same declarations as window and command line."""
