package keelson.print;

import keelson.core.Cargo;
import keelson.core.Filter;
import java.util.List;

/** A printed sheet. */
public final class Sheet {
  private Sheet() {}

  public static int lines(List<Cargo> all, Filter filter) {
    int lines = 0;
    for (Cargo cargo : all) {
      if (filter.lets(cargo)) {
        lines++;
      }
    }
    return lines;
  }
}
