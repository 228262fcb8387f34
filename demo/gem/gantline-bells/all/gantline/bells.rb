require "gantline/core"

module Gantline
  module Bells
    def self.ring(times)
      Array.new(times, "ding").join(" ")
    end
  end
end
