package keelson.api.time;

/** Tells the tides. */
public final class Tides {
  private Tides() {}

  public static String at(int hour) {
    return hour % 12 < 6 ? "ebb" : "flood";
  }
}
