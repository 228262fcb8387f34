package tally;

/** Adds up what is loaded. */
public final class Tally {
  private Tally() {}

  public static int of(int... tons) {
    int sum = 0;
    for (int t : tons) {
      sum += t;
    }
    return sum;
  }
}
