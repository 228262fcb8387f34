require "gantline/core"

module Gantline
  module Pages
    def self.render(title, lines)
      ([title, "-" * title.length] + lines).join("\n")
    end
  end
end
