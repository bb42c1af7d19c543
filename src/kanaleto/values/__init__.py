"""Register words <-> engineering values: types, orders, scaling, labels, bits. Pure functions over bytes."""
