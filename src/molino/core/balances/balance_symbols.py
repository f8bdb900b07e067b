"""The roles of the symbols in the balances of vessels, and their printed forms."""

from __future__ import annotations

from molino.core.symbols import Quantity, Role, roman


def _inlet_text(*owner: str) -> str:
    return f"in[{owner[0]}]" if len(owner) == 1 else f"[{owner[1]}]_{owner[0]}"


def _inlet_latex(*owner: str) -> str:
    return f"[{roman(owner[-1])}]_{{{roman('in' if len(owner) == 1 else owner[0])}}}"


def _inlet_words(*owner: str) -> str:
    return f"[{owner[-1]}] fed" + (f" with {owner[0]}" if len(owner) > 1 else "")


def _slope_text(*owner: str) -> str:
    return f"slope of {owner[0]}"


_SIZES = {"sign": "positive"}
AMOUNT = Role("amount", "n_{}", "n_{{{}}}", "amount of {}")
MOLAR_FLOW = Role("molar flow", "F_{}", "F_{{{}}}", "molar flow of {}")
INLET = Role("inlet concentration", _inlet_text, _inlet_latex, _inlet_words, "nonnegative")
START = Role("initial concentration", "start[{}]", "[{}]_{{\\mathrm{{start}}}}", "[{}] at start", "nonnegative")
VOLUME = Role("volume", "V", "V", "volume", **_SIZES)()
VESSEL_VOLUME = Role("volume of the vessel", "V_tube", "V_{tube}", "volume", **_SIZES)()
"""Of a whole tube, if its balances depend on it."""
FLOW = Role("flow", "Q", "Q", "flow", **_SIZES)()
"""Volumetric flow of the feed."""
STREAM_FLOW = Role("flow of a stream", "Q_{}", "Q_{{{}}}", "Q of {}", "positive")
STREAM_T = Role("temperature of a stream", "T_{}", "T_{{{}}}", "T of {}", "positive")
LOCAL_FLOW = Role("local flow", "Q_local", "Q", "local flow", **_SIZES)()
"""Volumetric flow along a tube or out of a tank, if it differs from that of the feed."""
HELD = Role("volume of contents", "V_held", "V", "volume of contents", **_SIZES)()
"""Volume of the contents of a vessel, if it is not constant."""
FEED_T = Role("feed temperature", "T_feed", "T_0", "feed T", **_SIZES)()
START_T = Role("initial temperature", "T_start", "T_0", "start T", **_SIZES)()
FEED_P = Role("feed pressure", "P_feed", "P_0", "feed P", **_SIZES)()
HEAT = Role("heat", "heat")()
"""Heat in through the walls, since the start or up to here."""
RELEASED = Role("heat released", "heat released")()
"""Heat of the reactions, since the start or up to here."""
BROUGHT = Role("enthalpy brought", "enthalpy brought")()
"""Enthalpy of the inflow less the outflow, since the start or up to here."""
WORKED = Role("stirring work", "stirring")()
PASSED_TIME = Role("time passed", "residence time")()
"""Integral of dV/Q along a tube."""
CAME = Role("amount that came in", "{} fed")
WENT = Role("amount that went out", "{} out")
SENSIBLE = Role("slope of the temperature", "dT/dt")()
DEMAND = Role("heat taken up", "H_taken", "\\dot{H}", "heat taken up")()
"""By reaction and inflow, at constant temperature."""
HELD_CAPACITY = Role("heat capacity of contents", "C_held", "C", "heat capacity of contents", **_SIZES)()
WITHDRAWN = Role("withdrawal", "Q_out", "Q_{out}", "withdrawal", "nonnegative")()
OVERFLOWING = Role("overflowing", "overflowing", sign="nonnegative")()
"""1 while a vessel is full and overflows, otherwise 0."""
SINCE = Role("beginning of a stage", "since", sign="nonnegative")()
SLOPE = Role("slope in time", _slope_text)

UA = Role("heat transfer", "UA", "UA", "UA", **_SIZES)()
TRANSFER = Role("heat transfer per volume", "Ua", "Ua", "UA per volume", **_SIZES)()
COOLANT = Role("coolant temperature", "T_coolant", "T_{c,0}", "coolant T", **_SIZES)()
COOLANT_LEAVES = Role("outlet temperature of the coolant", "T_c_out", "T_{c,out}", "coolant outlet T", **_SIZES)()
"""At the outlet of a counter-current coolant: it follows from that at its inlet."""
COOLANT_T = Role("local coolant temperature", "T_c", "T_c", "coolant T", **_SIZES)()
"""Temperature of a coolant along the tube."""
COOLANT_FLOW = Role("coolant heat capacity flow", "C_coolant", "C_c", "coolant flow", **_SIZES)()
DUTY = Role("duty", "Q_wall", "\\dot{Q}", "duty")()
"""A given heat through the walls."""
WALL = Role("heat capacity of the wall", "C_wall", "C_{w}", "heat capacity of the wall", "nonnegative")()
STIRRER = Role("stirrer power", "W", "W", "stirrer power", "nonnegative")()

EXTENT = Role("extent", "extent_{}", "\\xi_{{{}}}", "extent of {}")
GIVEN_EXTENT = Role("given extent", "extent0_{}", "\\xi_{{{},0}}", "extent of {}", "nonnegative")
GIVEN_CONVERSION = Role("given conversion", "X_{}", "X_{{{}}}", "conversion of {}", "nonnegative")
POTENTIAL = Role("potential of the conserved amounts", "mu_{}", "\\mu_{{{}}}", "potential {}")
APPROACH = Role("approach to equilibrium", "approach_{}", "\\Delta T_{{{}}}", "approach of {}")
IS_THERE = Role("presence", "there_{}", "\\delta_{{{}}}", "presence of {}", "nonnegative")
"""1 where a species can exist (a pure solid: exists), otherwise 0."""
IS_COUNTED = Role("independence", "counted_{}", "\\epsilon_{{{}}}", "independence of balance {}", "nonnegative")
"""1 if the balance of a conserved amount is independent of the others, otherwise 0."""
AREA = Role("cross-section", "A_tube", "A", "cross-section", **_SIZES)()
MASS_FLUX = Role("mass flux", "G", "G", "mass flux", **_SIZES)()
"""Mass flow over cross-section of the (empty) tube, constant along it."""
LAMINAR = Role("viscous resistance", "f_1", "f_1", "viscous resistance", "nonnegative")()
TURBULENT = Role("inertial resistance", "f_2", "f_2", "inertial resistance", "nonnegative")()

CARRIED = Role("flow by convection", "Fc_{}", "F^{{c}}_{{{}}}", "convective flow of {}")
"""Molar flow by convection alone, without dispersion."""
LOCAL = Role("local composition", "c_{}", "c_{{{}}}", "local composition of {}", "nonnegative")
"""Concentration, or mole fraction if the volume follows from the amounts, in a tube with dispersion."""
INSIDE = Role("composition behind the inlet", "c0_{}", "c_{{{},0+}}", "{} just behind the inlet", "nonnegative")
INSIDE_T = Role("temperature behind the inlet", "T_inside", "T_{0+}", "T just behind the inlet", **_SIZES)()
SPREAD = Role("dispersion", "D_A2", "D A^2", "dispersion", **_SIZES)()
"""Coefficient of axial dispersion times the square of the cross-section, in m^6/s."""
HEAT_SPREAD = Role("dispersion of heat", "D_heat_A2", "D_h A^2", "dispersion of heat", **_SIZES)()
CONDUCTION = Role("axial conduction", "k_A2", "k A^2", "axial conduction", **_SIZES)()
"""Thermal conductivity along the tube times the square of the cross-section, in W m^3/K."""
CONDUCTED = Role("heat by dispersion", "q", "q", "heat carried by dispersion")()

LOADING = Role("loading", "q_{}", "q_{{{}}}", "loading of {}")
LOADING_AT_START = Role("initial loading", "q0_{}", "q_{{{},0}}", "loading of {} at start", "nonnegative")
ADSORPTION_RATE = Role("rate of adsorption", "k_ads", "k_{ads}", "rate of adsorption", **_SIZES)()
ADSORPTION_CONSTANT = Role("constant of adsorption", "{}", "{}", "adsorption {}")

BULK_DENSITY = Role("bulk density", "bulk_density", "\\rho_b", **_SIZES)()
CATALYST_FRACTION = Role("fraction of catalyst", "fraction", "\\varphi", **_SIZES)()
CATALYST_AREA = Role("catalytic area", "area", "a", **_SIZES)()
VOIDAGE = Role("voidage", "voidage", "\\varepsilon", **_SIZES)()
PARTICLE_DENSITY = Role("particle density", "rho_p", "\\rho_p", "particle_density", **_SIZES)()
AGE = Role("time on stream", "t_stream", "t", "time on stream", "nonnegative")()
ACTIVITY = Role("activity", "a", "a", "activity", "nonnegative")()
DEACTIVATION = Role("deactivation constant", "{}", "{}", "{}")
PORES = Role("resistance of the pores", "pore_{}", "\\pi_{{{}}}", "pores of {}", "positive")
EFFECTIVENESS = Role("effectiveness", "eta_{}", "\\eta_{{{}}}", "effectiveness of {}")
THIELE_SQUARED = Role("Thiele modulus squared", "phi2_{}", "\\phi^2_{{{}}}", "Thiele modulus squared of {}")

WALL_AREA = Role("membrane area", "A_m", "A_m", "membrane area", **_SIZES)()
"""Area of a membrane: of a tank in m2, of a tube per volume in 1/m."""
FLUX = Role("flux through the membrane", "J_{}", "J_{{{}}}", "flux of {}")
FLUX_CONSTANT = Role("membrane constant", "{}", "{}", "membrane {}")
PERMEATE_FLOW = Role("permeate flow", "F_perm_{}", "F'_{{{}}}", "permeate flow of {}")
SWEEP = Role("sweep flow", "F_sweep_{}", "F'_{{{},0}}", "sweep flow of {}", "nonnegative")
SWEEP_FLOW = Role("volumetric sweep flow", "Q_sweep", "Q'_0", "sweep flow", **_SIZES)()
PERMEATE_P = Role("permeate pressure", "P_perm", "P'", "permeate pressure", "nonnegative")()
PERMEATE_VOLUME = Role("permeate volumetric flow", "Q_perm", "Q'", "permeate volumetric flow", **_SIZES)()

KLA = Role("gas-liquid transfer", "kLa", "k_L a", "kLa", **_SIZES)()
KLA_RATIO = Role("ratio of transfer coefficients", "kLa_ratio_{}", "\\kappa_{{{}}}", "kLa ratio of {}", "positive")
HENRY = Role("Henry's constant", "H_{}", "H_{{{}}}", "Henry's constant of {}")
HENRY_NOW = Role("Henry's constant at temperature", "H[{}]", "H_{{{}}}", "Henry's constant of {}", "positive")
GAS_P = Role("pressure of the gas", "P_gas", "P", "pressure of the gas", **_SIZES)()
"""At the top of the liquid."""
HEAD = Role("head of the liquid", "P_head", "\\Delta P", "head of the liquid", "nonnegative")()
"""Hydrostatic pressure of the liquid above the inlet of the gas."""
GAS_RATIO = Role("gas per liquid", "V_gas_per_V", "V_g/V", "volume of gas per liquid", **_SIZES)()
GAS_FED = Role("gas fed", "G_in_{}", "G_{{{},0}}", "{} fed with the gas", "nonnegative")
GAS_FEED_T = Role("temperature of the gas fed", "T_gas", "T_{g,0}", "T of the gas fed", **_SIZES)()
GAS_CONCENTRATION = Role("concentration in the gas", "C_{}", "C_{{{}}}", "{} in the gas")
"""For a gas in plug flow at a node."""
GAS_START = Role("initial concentration in the gas", "C0_{}", "C_{{{},0}}", "{} in the gas at start", "nonnegative")
"""At the top of the liquid."""
GAS_START_P = Role("initial pressure of the gas", "P_gas_0", "P_0", "pressure of the gas at start", **_SIZES)()
GAS_FRACTION = Role("fraction in the gas", "y_{}", "y_{{{}}}", "fraction of {} in the gas")
GAS_FLOW = Role("molar flow of the gas", "G_{}", "G_{{{}}}", "molar flow of {}")
FLOW_IN_GAS = Role("molar flow in the gas", "G_{}", "G_{{{}}}", "molar flow of {} in the gas")
GAS_LOSS = Role("loss of the gas", "loss_{}", "\\lambda_{{{}}}", "loss of {}")
SATURATION = Role("concentration at the interface", "[{}]*", "[{}]^*", "[{}] at the interface")
TAKEN_UP = Role("absorption", "absorbed_{}", "\\dot{{n}}_{{{}}}", "absorption of {}")
FILM_COEFFICIENT = Role("film coefficient", "kL", "k_L", "kL", **_SIZES)()
DIFFUSIVITY = Role("diffusivity", "D_{}", "D_{{{}}}", "diffusivity for {}", "positive")
PARTNER_DIFFUSIVITY = Role(
    "diffusivity of the partner", "D_B_{}", "D_{{B,{}}}", "diffusivity of the partner for {}", "positive"
)
HATTA_SQUARED = Role("Hatta number squared", "Ha2_{}", "Ha^2_{{{}}}", "Hatta number squared of {}")
ENHANCEMENT = Role("enhancement", "E_{}", "E_{{{}}}", "enhancement of {}")


def slope_of(symbol: Quantity) -> Quantity:
    """The parameter of the rate of change of a moving number."""
    return SLOPE(str(symbol), symbol.name)
