require_relative "lib/wakelog/version"

Gem::Specification.new do |spec|
  spec.name = "wakelog"
  spec.version = Wakelog::VERSION
  spec.summary = "A history of what was booked"
  spec.authors = ["The crew of wakelog"]
  spec.files = Dir["lib/**/*.rb"]
  spec.required_ruby_version = ">= 2.7"
  spec.add_dependency "gantline", ">= 7.0", "< 9"
end
