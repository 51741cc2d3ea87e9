"""What a Python user holds: :class:`Assembly`, :class:`Modes`, :class:`Answer`."""
