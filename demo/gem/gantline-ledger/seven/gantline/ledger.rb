require "gantline/core"

module Gantline
  # Ledger holds the bookings.
  module Ledger
    BOOKED = []
    def self.enter(berth)
      BOOKED << berth
      BOOKED.length
    end
  end
end
