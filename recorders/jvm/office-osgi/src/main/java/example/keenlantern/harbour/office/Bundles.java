package example.keenlantern.harbour.office;

import example.keenlantern.harbour.api.Clock;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.jar.Attributes;
import java.util.jar.JarEntry;
import java.util.jar.JarOutputStream;
import java.util.jar.Manifest;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleContext;
import org.osgi.framework.BundleException;

/** The office's bundles, made of its classes and their component descriptions. */
public final class Bundles {
    private static final String ROOT = "example.keenlantern.harbour.";

    private final BundleContext context;
    private final String root;
    private final String prefix;

    /** The office's bundles for a framework. */
    public Bundles(BundleContext context) {
        this(context, ROOT, "harbour.");
    }

    /** Bundles of classes below a package ({@code example.}), whose names begin with a prefix, for a framework. */
    public Bundles(BundleContext context, String root, String prefix) {
        this.context = context;
        this.root = root;
        this.prefix = prefix;
    }

    /** A bundle that is being written. */
    public final class Draft {
        private final String name;
        private final Map<String, String> components = new LinkedHashMap<>();
        private final Map<String, Class<?>> classes = new LinkedHashMap<>();
        private String exports = "";
        private String imports = root + "api";

        private Draft(String name) {
            this.name = name;
        }

        /** Adds classes. */
        public Draft with(Class<?>... added) {
            for (Class<?> c : added) classes.put(c.getName().replace('.', '/') + ".class", c);
            return this;
        }

        /** Lets other bundles use a package. */
        public Draft exports(String name) {
            exports = root + name;
            return this;
        }

        /** Uses another bundle's package. */
        public Draft imports(String name) {
            imports += "," + root + name;
            return this;
        }

        /**
         * Adds a component, which is as its description says.
         *
         * @param attributes of the component, such as {@code init="1"}
         * @param parts what is in it: provide, reference and property elements
         */
        public Draft component(Class<?> type, String id, String attributes, String... parts) {
            with(type);
            components.put(
                    "OSGI-INF/" + id + ".xml",
                    "<scr:component xmlns:scr=\"http://www.osgi.org/xmlns/scr/v1.4.0\" name=\"" + id + "\" "
                            + attributes + "><implementation class=\"" + type.getName() + "\"/>"
                            + String.join("", parts) + "</scr:component>");
            return this;
        }

        /** Installs it. */
        public Bundle install() throws BundleException {
            Manifest manifest = new Manifest();
            Attributes main = manifest.getMainAttributes();
            main.putValue("Manifest-Version", "1.0");
            main.putValue("Bundle-ManifestVersion", "2");
            main.putValue("Bundle-SymbolicName", prefix + name);
            main.putValue("Bundle-Version", "1.0.0");
            if (!exports.isEmpty()) main.putValue("Export-Package", exports);
            if (!name.equals("api")) main.putValue("Import-Package", imports);
            if (!components.isEmpty()) main.putValue("Service-Component", String.join(",", components.keySet()));
            ByteArrayOutputStream out = new ByteArrayOutputStream();
            try (JarOutputStream jar = new JarOutputStream(out, manifest)) {
                for (Map.Entry<String, String> component : components.entrySet()) {
                    jar.putNextEntry(new JarEntry(component.getKey()));
                    jar.write(component.getValue().getBytes(StandardCharsets.UTF_8));
                }
                for (String path : classes.keySet()) {
                    jar.putNextEntry(new JarEntry(path));
                    try (InputStream in = Bundles.class.getClassLoader().getResourceAsStream(path)) {
                        jar.write(in.readAllBytes());
                    }
                }
            } catch (IOException e) {
                throw new BundleException("write " + name, e);
            }
            return context.installBundle(prefix + name, new ByteArrayInputStream(out.toByteArray()));
        }
    }

    /** Begins to write a bundle. */
    public Draft draft(String name) {
        return new Draft(name);
    }

    /** A provide element. */
    public static String provides(String scope, Class<?> service) {
        return "<service scope=\"" + scope + "\"><provide interface=\"" + service.getName() + "\"/></service>";
    }

    /** A reference element for a parameter of the constructor. */
    public static String parameter(int n, String name, Class<?> service, String more) {
        return "<reference name=\"" + name + "\" interface=\"" + service.getName() + "\" parameter=\"" + n + "\" "
                + more + "/>";
    }

    /** The package of the services, for all. */
    public Bundle api() throws BundleException {
        Package api = Clock.class.getPackage();
        return draft("api")
                .exports(api.getName().substring(ROOT.length()))
                .with(
                        Clock.class,
                        example.keenlantern.harbour.api.Crew.class,
                        example.keenlantern.harbour.api.Dispatcher.class,
                        example.keenlantern.harbour.api.LogPage.class,
                        example.keenlantern.harbour.api.Ticket.class,
                        example.keenlantern.harbour.api.WeatherReport.class)
                .install();
    }
}
