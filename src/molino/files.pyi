from molino.core.chemistry.library import Library as Library
from molino.core.errors import WriteError as WriteError
from molino.desk.job.chemistry import (
    read_chemistry as read_chemistry,
    read_library as read_library,
    write_chemistry as write_chemistry,
)
from molino.desk.tables.lookup import look_up as look_up
from molino.desk.tables.sbml import read_sbml as read_sbml
from molino.desk.tables.sbml_reader import SbmlModel as SbmlModel
from molino.desk.tables.sbml_writer import write_sbml as write_sbml
from molino.desk.tables.species import read_species as read_species
from molino.desk.tables.sweep_parts import (
    SweepParts as SweepParts,
    read_sweep as read_sweep,
    write_sweep as write_sweep,
)
