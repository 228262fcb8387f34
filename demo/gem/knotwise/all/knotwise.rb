# Knotwise ties things together.
module Knotwise
  def self.tie(*parts)
    parts.join("-")
  end
end
