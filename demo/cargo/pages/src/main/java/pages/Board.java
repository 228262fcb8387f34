package pages;

import java.util.List;
import keelson.api.Cargo;
import keelson.api.Filter;
import keelson.print.Sheet;
import keelson.web.Page;

/** The board at the crane. */
public final class Board {
  private static final Filter HEAVY = cargo -> cargo.tons() > 10;

  private Board() {}

  static String page(Cargo cargo) {
    return Page.of(cargo);
  }

  static int heavy(List<Cargo> all) {
    return Sheet.lines(all, HEAVY);
  }
}
