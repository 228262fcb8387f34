require "knotwise"

# The framework of the booking office.
module Gantline
  MAJOR = 7

  # Cellar keeps what was made once.
  module Cellar
    KEPT = {}
    def self.keep(name)
      KEPT[name] ||= yield
    end
  end
end
