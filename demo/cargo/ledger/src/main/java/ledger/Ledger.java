package ledger;

import keelson.api.Cargo;
import keelson.api.time.Tides;
import manifest.Manifest;
import tally.Tally;

/** What was loaded, and when. */
public final class Ledger {
  private Ledger() {}

  static String line(Cargo cargo, int hour) {
    return cargo.name() + " " + Tally.of(cargo.tons(), 1) + " " + Tides.at(hour);
  }

  static String declared(Cargo cargo) {
    return Manifest.of(cargo.name(), cargo.tons());
  }
}
