package example.keenlantern.office;

/** Finds a berth for a ship. */
class BerthPlanner {
    private final TideSource tides;
    private final TideModel model;

    BerthPlanner(TideSource tides, TideModel model) {
        this.tides = tides;
        this.model = model;
    }

    String plan(int draught) {
        return tides.height("lock-gate") + model.at(6) > draught ? "berth 3" : "wait";
    }
}
