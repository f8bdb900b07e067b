from molino.core.fields.basin import Basin as Basin
from molino.core.fields.basin_run import BasinInTime as BasinInTime, BasinRun as BasinRun
from molino.core.fields.laminar_run import LaminarInTime as LaminarInTime, LaminarRun as LaminarRun
from molino.core.fields.laminar_tube import LaminarTube as LaminarTube
from molino.core.fields.openings import Baffle as Baffle, Inlet as Inlet, Outlet as Outlet
