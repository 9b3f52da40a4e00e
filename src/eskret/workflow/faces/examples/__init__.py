"""What an operation does, shown on a handful of features: tiny layers, the operation run on them as the engine runs it, both drawn.

``scene`` has the layers, ``cases`` which operation is tried on which of them, ``picture`` draws what entered and what left.
"""
