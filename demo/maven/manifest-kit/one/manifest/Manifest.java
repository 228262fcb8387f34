package manifest;

import keelson.api.Cargo;
import keelson.api.Filter;

/** A manifest for the harbour office. */
public final class Manifest {
  private Manifest() {}

  public static String of(String name, int tons) {
    Filter heavy = cargo -> cargo.tons() > 10;
    return name + (heavy.lets(new Cargo(name, tons)) ? " (declared)" : "");
  }
}
