require "gantline/pages"

module Gantline
  # Stubs are what a passenger keeps of a ticket.
  module Stubs
    def self.print(number, name)
      format("no. %04d  %s", number, name)
    end
  end
end
