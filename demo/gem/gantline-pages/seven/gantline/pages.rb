require "gantline/core"

module Gantline
  module Pages
    def self.render(title, lines)
      ([title, "-" * title.length] + lines).join("\n")
    end
  end

  # Stubs are what a passenger keeps of a ticket.
  module Stubs
    def self.print(number, name)
      format("no. %04d  %s", number, name)
    end
  end
end
