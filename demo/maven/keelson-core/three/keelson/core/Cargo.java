package keelson.core;

/** A piece of cargo. */
public final class Cargo {
  private final String name;
  private final int tons;

  public Cargo(String name, int tons) {
    this.name = name;
    this.tons = tons;
  }

  public String name() {
    return name;
  }

  public int tons() {
    return tons;
  }
}
