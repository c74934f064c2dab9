package tarnholt.loading;

/** Content that cannot be loaded, in words for the person who reads the log. */
public final class Refusal extends Exception {
    private static final long serialVersionUID = 1L;

    public Refusal(String message) {
        super(message);
    }
}
