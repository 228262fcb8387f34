require "knotwise"

# The framework of the booking office.
module Gantline
  MAJOR = 8
end
