require "gantline/core"

module Gantline
  # Cellar keeps what was made once.
  module Cellar
    KEPT = {}
    def self.keep(name)
      KEPT[name] ||= yield
    end
  end
end
