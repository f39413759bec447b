/** Records instance creation, sharing and disposal of an application, for Keen Lantern. */
module example.keenlantern.record {
    requires java.net.http;

    exports example.keenlantern.record;
}
