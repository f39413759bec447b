package example.keenlantern.record;

/** The name of a scope that is known only later, once a request has found who answers it. */
public final class Naming {
    private volatile String name;
    private volatile boolean settled;

    /** A name that is to come. */
    public Naming() {}

    /** Sets the name. The first call counts; null: it has none. */
    public void is(String called) {
        if (settled) return;
        name = called;
        settled = true;
    }

    /** Whether anything has been said. */
    public boolean settled() {
        return settled;
    }

    String name() {
        return name;
    }
}
