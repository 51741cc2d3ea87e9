"""What happens to the base: response spectra and pulses."""

from holokine.excite.pulse import BasePulse, build_pulse
from holokine.excite.spectrum import ResponseSpectrum, build_spectrum

__all__ = ["BasePulse", "ResponseSpectrum", "build_pulse", "build_spectrum"]
