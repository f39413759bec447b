package example.keenlantern.record.osgi;

import example.keenlantern.record.Also;
import example.keenlantern.record.Event;
import example.keenlantern.record.Need;
import example.keenlantern.record.Recorder;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.HashMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.TreeSet;
import java.util.concurrent.TimeUnit;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleContext;
import org.osgi.framework.Constants;
import org.osgi.framework.FrameworkUtil;
import org.osgi.framework.InvalidSyntaxException;
import org.osgi.framework.dto.ServiceReferenceDTO;
import org.osgi.service.component.runtime.ServiceComponentRuntime;
import org.osgi.service.component.runtime.dto.ComponentConfigurationDTO;
import org.osgi.service.component.runtime.dto.ComponentDescriptionDTO;
import org.osgi.service.component.runtime.dto.ReferenceDTO;
import org.osgi.service.component.runtime.dto.SatisfiedReferenceDTO;

/** What one runtime says of its components, and what has been recorded of it. All of it is one lock's. */
final class Components {
    private static final int MOST = 20_000; // configurations; more would come from an attacker
    private static final int DEEPEST = 256; // of a circle
    private static final long SHORT = TimeUnit.SECONDS.toNanos(5);
    private static final long PATIENCE = TimeUnit.SECONDS.toNanos(30);

    private final Recorder recorder;
    private final BundleContext context;
    private final ServiceComponentRuntime runtime;
    private final Recorder.Root root;
    private final Map<Long, Component> known = new LinkedHashMap<>(); // by the configuration's id
    private final Map<String, Registered> registered = new HashMap<>(); // by bundle, name and pid
    private final Set<String> filters = new TreeSet<>(); // that references have, by service
    private final Set<String> provided = new HashSet<>(); // references that are provided, with its target
    private List<Component> all = List.of(); // there at the moment
    private long state; // of all of them, as it was read last
    private boolean over;

    /** A registration: the same one when its bundle is started again. */
    private static final class Registered {
        long reg;
        String told = "";
    }

    /** A component's configuration: what is registered, and its instances. */
    private static final class Component {
        final ComponentDescriptionDTO description;
        ComponentConfigurationDTO now;
        final List<ReferenceDTO> references = new ArrayList<>();
        Registered registered;
        long service; // its service's id, 0 for none
        final Map<String, Long> instances = new LinkedHashMap<>(); // by whom each is for
        final Map<Long, Set<Long>> keeps =
                new HashMap<>(); // by instance: those that it was given for as long as it is there
        final Set<Long> ending = new HashSet<>(); // instances whose disposal has begun
        final Map<String, Set<Long>> bound = new HashMap<>(); // by reference: what dynamic ones were given
        final long since = Recorder.now();
        boolean satisfied; // ever
        final Set<String> filled = new HashSet<>(); // references that ever were
        boolean failed; // told
        boolean judged; // that it waits was inspected

        Component(ComponentDescriptionDTO description) {
            this.description = description;
            // The runtime's own condition is nothing that a component asks for.
            for (ReferenceDTO r : description.references)
                if (!r.name.equals("osgi.ds.satisfying.condition")) references.add(r);
        }

        String name() {
            return description.serviceInterfaces.length > 0 ? description.serviceInterfaces[0] : description.name;
        }
    }

    Components(Recorder recorder, BundleContext context, ServiceComponentRuntime runtime, String name) {
        this.recorder = recorder;
        this.context = context;
        this.runtime = runtime;
        root = recorder.root(new Event.Container().name(name).duplicates(Event.Duplicates.PRIMARY), 0);
    }

    /**
     * Records what has changed since it was last read.
     *
     * @param event whether a service has come, changed or gone meanwhile
     */
    synchronized void read(boolean event) {
        if (over) return;
        Map<Long, Component> there = new LinkedHashMap<>();
        long state = 1;
        for (ComponentDescriptionDTO description : runtime.getComponentDescriptionDTOs()) {
            for (ComponentConfigurationDTO configuration : runtime.getComponentConfigurationDTOs(description)) {
                Component component = known.get(configuration.id);
                if (component == null) {
                    if (known.size() + there.size() > MOST) continue;
                    component = new Component(description);
                }
                component.now = configuration;
                component.service = serviceOf(configuration);
                there.put(configuration.id, component);
                state = 31 * state + stateOf(configuration);
            }
        }
        if (!event && state == this.state && there.size() == known.size()) {
            for (Component c : all) miss(c, all, false); // time has passed
            return;
        }
        this.state = state;
        List<Component> before = new ArrayList<>(known.values());
        boolean stopping = context.getBundle(0).getState() == Bundle.STOPPING;
        List<Component> gone = new ArrayList<>();
        for (Component c : before) if (c.now != null && !there.containsKey(c.now.id)) gone.add(c);
        // What is gone for good missed what it never had.
        for (Component c : gone) if (stopping || Recorder.now() - c.since > SHORT) miss(c, before, true);
        for (Component c : gone) c.now = null;
        all = new ArrayList<>(there.values());
        register();
        dispose(before);
        Map<Long, Component> byService = new HashMap<>();
        for (Component c : all) if (c.service != 0) byService.put(c.service, c);
        for (Component c : all) make(c, byService, new HashSet<>());
        for (Component c : all) bind(c, byService);
        known.values().removeIf(c -> c.now == null && c.instances.isEmpty());
        for (Map.Entry<Long, Component> e : there.entrySet()) known.put(e.getKey(), e.getValue());
        for (Component c : all) miss(c, all, false);
    }

    private static boolean active(Component c) {
        return c.now != null && c.now.state == ComponentConfigurationDTO.ACTIVE;
    }

    // Two readings that are alike in it have the same instances.
    private static long stateOf(ComponentConfigurationDTO configuration) {
        long state = 31 * configuration.id + configuration.state;
        if (configuration.service != null && configuration.service.usingBundles != null)
            state = 31 * state + Arrays.hashCode(configuration.service.usingBundles);
        if (configuration.satisfiedReferences == null) return state;
        for (SatisfiedReferenceDTO satisfied : configuration.satisfiedReferences) {
            state = 31 * state + satisfied.name.hashCode();
            if (satisfied.boundServices == null) continue;
            for (ServiceReferenceDTO service : satisfied.boundServices) state = 31 * state + service.id;
        }
        return state;
    }

    private static long serviceOf(ComponentConfigurationDTO configuration) {
        if (configuration.service != null) return configuration.service.id;
        return 0;
    }

    // Registrations. What a target filter names is a key: of whatever it matches.

    private void register() {
        for (Component c : all)
            for (ReferenceDTO r : c.references)
                if (targetOf(c, r) != null && filters.size() < MOST)
                    filters.add(r.interfaceName + " " + targetOf(c, r));
        for (Component c : all)
            for (ReferenceDTO r : c.references)
                if (!providers(r, targetOf(c, r), all).isEmpty() && provided.size() < MOST)
                    provided.add(r.interfaceName + " " + targetOf(c, r));
        Map<String, Component> best = new HashMap<>(); // by service: the one that is ranked highest
        for (Component c : all)
            for (String service : c.description.serviceInterfaces)
                best.merge(service, c, (a, b) -> ranking(b) > ranking(a) ? b : a);
        Map<String, Integer> several = new HashMap<>();
        for (Component c : all)
            for (String service : c.description.serviceInterfaces) several.merge(service, 1, Integer::sum);
        for (Component c : all) register(c, best, several);
    }

    private void register(Component c, Map<String, Component> best, Map<String, Integer> several) {
        ComponentDescriptionDTO d = c.description;
        String service = c.name();
        Set<Also> also = new LinkedHashSet<>();
        for (String name : d.serviceInterfaces) {
            if (!name.equals(service)) also.add(new Also(name, null));
            for (String filter : filters) {
                int space = filter.indexOf(' ');
                String target = filter.substring(space + 1);
                if (filter.substring(0, space).equals(name) && matches(target, c.now.properties, name))
                    also.add(new Also(name, keyOf(target)));
            }
        }
        List<Need> needs = new ArrayList<>();
        for (ReferenceDTO r : c.references) {
            boolean dynamic = "dynamic".equals(r.policy);
            needs.add(new Need(
                    r.interfaceName,
                    r.name,
                    keyOf(targetOf(c, r)),
                    dynamic ? Event.How.METHOD : r.parameter != null ? Event.How.CONSTRUCTOR : Event.How.PROPERTY,
                    r.cardinality.endsWith("n"),
                    r.cardinality.startsWith("0"),
                    dynamic));
        }
        Bundle bundle = context.getBundle(d.bundle.id);
        boolean disposable = d.deactivate != null;
        Event.Register register = new Event.Register()
                .service(service)
                .impl(d.implementationClass)
                .lifetime(
                        switch (d.scope == null ? "singleton" : d.scope) {
                            // One for each bundle, and one for each component that asks.
                            case "bundle", "prototype" -> Event.Lifetime.PER_CONSUMER;
                            default -> Event.Lifetime.SINGLETON;
                        })
                .container(root.container())
                .module(bundle == null ? null : bundle.getSymbolicName())
                .at(d.name)
                .also(new ArrayList<>(also))
                .needs(needs);
        // Of several, one is known by the filter that asks for it, or by its configuration.
        String key = null;
        if (several.getOrDefault(service, 1) > 1) {
            for (Also one : also)
                if (one.service().equals(service) && one.key() != null && key == null) key = one.key();
            if (key == null && c.now.properties.get("service.factoryPid") != null)
                key = String.valueOf(c.now.properties.get(Constants.SERVICE_PID));
        }
        if (key != null) {
            also.remove(new Also(service, key));
            also.add(new Also(service, null));
            register.key(key).also(new ArrayList<>(also));
        }
        boolean primary =
                Arrays.stream(d.serviceInterfaces).anyMatch(s -> best.get(s) == c) && d.serviceInterfaces.length > 0;
        if (primary) register.primary(true);
        if (disposable) register.disposable(true);
        if (d.implementationClass != null && framework(d.implementationClass)) register.internal(true);
        String told = also + " " + needs + " " + key + " " + primary;
        if (c.registered == null) {
            Object pid = c.now.properties.get(Constants.SERVICE_PID);
            String name = d.bundle.symbolicName + " " + d.name + " " + (pid instanceof String text ? text : "");
            c.registered = registered.getOrDefault(name, new Registered());
            if (registered.size() < MOST) registered.putIfAbsent(name, c.registered);
        }
        if (told.equals(c.registered.told)) return;
        c.registered.told = told;
        if (c.registered.reg == 0) c.registered.reg = recorder.register(register);
        else recorder.registerAgain(c.registered.reg, register);
    }

    private static boolean framework(String type) {
        return type.startsWith("org.apache.felix.")
                || type.startsWith("org.eclipse.equinox.")
                || type.startsWith("org.osgi.");
    }

    private static long ranking(Component c) {
        return c.now.properties.get(Constants.SERVICE_RANKING) instanceof Integer ranking ? ranking : 0;
    }

    // A target may be set by configuration.
    private static String targetOf(Component c, ReferenceDTO r) {
        Object set = c.now == null ? null : c.now.properties.get(r.name + ".target");
        return set instanceof String target ? target : r.target;
    }

    private static boolean matches(String target, Map<String, Object> properties, String service) {
        try {
            Map<String, Object> all = new HashMap<>(properties);
            all.put(Constants.OBJECTCLASS, new String[] {service});
            return FrameworkUtil.createFilter(target).matches(all);
        } catch (InvalidSyntaxException e) {
            return false;
        }
    }

    /** A filter as a key: a plain one without its brackets. */
    private static String keyOf(String target) {
        if (target == null) return null;
        boolean plain = target.startsWith("(") && target.indexOf('(', 1) < 0 && target.endsWith(")");
        return plain ? target.substring(1, target.length() - 1) : target;
    }

    // Instances.

    private void make(Component c, Map<Long, Component> byService, Set<Component> path) {
        if (!active(c) || !path.add(c)) return;
        // What it was given was there before it.
        for (ReferenceDTO r : c.references)
            for (long service : boundTo(c, r)) {
                Component given = byService.get(service);
                if (given != null) make(given, byService, path);
            }
        String scope = c.description.scope == null ? "singleton" : c.description.scope;
        switch (scope) {
            case "bundle" -> {
                for (String module : using(c)) instance(c, module, module, byService);
            }
            case "prototype" -> {
                // Those that are for other components: what code asks for is not reported.
                for (Component consumer : all) forConsumer(c, consumer, byService);
            }
            default -> instance(c, "", null, byService);
        }
    }

    private void forConsumer(Component c, Component consumer, Map<Long, Component> byService) {
        if (!active(consumer)) return;
        for (ReferenceDTO r : consumer.references)
            if (boundTo(consumer, r).contains(c.service)) instance(c, whose(c, consumer, r), null, byService);
    }

    private String whose(Component c, Component consumer, ReferenceDTO r) {
        if ("bundle".equals(c.description.scope)) return moduleOf(consumer);
        if (!"prototype".equals(c.description.scope)) return "";
        boolean own = r.scope != null && r.scope.startsWith("prototype");
        return own ? "component " + consumer.now.id : moduleOf(consumer);
    }

    private String moduleOf(Component c) {
        Bundle bundle = context.getBundle(c.description.bundle.id);
        return bundle == null ? "" : bundle.getSymbolicName();
    }

    private Collection<String> using(Component c) {
        Set<String> modules = new LinkedHashSet<>();
        if (c.now.service != null && c.now.service.usingBundles != null)
            for (long id : c.now.service.usingBundles) {
                Bundle bundle = context.getBundle(id);
                if (bundle != null) modules.add(bundle.getSymbolicName());
            }
        return modules;
    }

    private void instance(Component c, String whose, String module, Map<Long, Component> byService) {
        if (c.instances.containsKey(whose)) return;
        List<Object> with = new ArrayList<>();
        List<Event.Give> filled = new ArrayList<>();
        Set<Long> kept = new HashSet<>();
        for (ReferenceDTO r : c.references) {
            if ("dynamic".equals(r.policy)) continue;
            List<Object> given = new ArrayList<>();
            for (long service : boundTo(c, r)) given.add(idOf(byService.get(service), c, r));
            for (Object one : given) kept.add((Long) one);
            if (r.parameter != null) {
                if (r.cardinality.endsWith("n")) with.add(given);
                else with.add(given.isEmpty() ? null : given.get(0));
                continue;
            }
            for (Object one : given)
                filled.add(new Event.Give()
                        .inst((Long) one)
                        .how(Event.How.PROPERTY)
                        .site(r.name)
                        .service(r.interfaceName)
                        .key(keyOf(targetOf(c, r))));
        }
        Event.Make make = new Event.Make()
                .reg(c.registered.reg)
                .scope(root.scope())
                .container(root.container())
                .with(with)
                .module(module);
        long inst = recorder.make(make);
        c.instances.put(whose, inst);
        c.keeps.put(inst, kept);
        for (Event.Give give : filled) recorder.give(give.to(inst));
    }

    private Object idOf(Component given, Component consumer, ReferenceDTO r) {
        if (given == null) return 0L; // no component's
        Long id = given.instances.get(whose(given, consumer, r));
        return id == null ? 0L : id;
    }

    private static Set<Long> boundTo(Component c, ReferenceDTO r) {
        Set<Long> services = new LinkedHashSet<>();
        if (c.now == null || c.now.satisfiedReferences == null) return services;
        for (SatisfiedReferenceDTO satisfied : c.now.satisfiedReferences)
            if (satisfied.name.equals(r.name) && satisfied.boundServices != null)
                for (ServiceReferenceDTO service : satisfied.boundServices) services.add(service.id);
        return services;
    }

    // What a dynamic reference is given later, and gives back.
    private void bind(Component c, Map<Long, Component> byService) {
        for (ReferenceDTO r : c.references) {
            Set<Long> now = boundTo(c, r);
            if (!now.isEmpty()) c.filled.add(r.name);
            if (!"dynamic".equals(r.policy) || c.instances.isEmpty()) continue;
            Set<Long> before = c.bound.getOrDefault(r.name, Set.of());
            for (long service : now) {
                if (before.contains(service) || byService.get(service) == null) continue;
                if (!(idOf(byService.get(service), c, r) instanceof Long inst) || inst == 0) continue;
                for (long to : c.instances.values())
                    recorder.give(new Event.Give()
                            .inst(inst)
                            .to(to)
                            .how(Event.How.METHOD)
                            .site(r.name)
                            .service(r.interfaceName)
                            .key(keyOf(targetOf(c, r))));
            }
            c.bound.put(r.name, now);
        }
        if (c.now.state == ComponentConfigurationDTO.SATISFIED || active(c)) c.satisfied = true;
    }

    // Disposal.

    /** Records that a service is going: the components behind it are about to be deactivated. */
    synchronized void going(long service) {
        if (over) return;
        for (Component c : known.values())
            if (c.service == service) for (long inst : c.instances.values()) begin(c, inst);
    }

    private void begin(Component c, long inst) {
        if (c.ending.add(inst)) recorder.disposing(inst, root.scope());
    }

    // What depends on another one is deactivated before it.
    private void dispose(List<Component> had) {
        Set<Component> done = new LinkedHashSet<>();
        for (Component c : had) ended(c, had, done, new HashSet<>());
    }

    private void ended(Component c, List<Component> had, Set<Component> done, Set<Component> path) {
        if (!path.add(c) || done.contains(c)) return;
        for (Component other : had) if (other != c && dependsOn(other, c)) ended(other, had, done, path);
        if (!done.add(c) || c.instances.isEmpty()) return;
        Set<String> still = active(c) ? whose(c) : Set.of();
        c.instances.entrySet().removeIf(e -> {
            // What still keeps it ends before it: that is read again when it has.
            boolean left = !still.contains(e.getKey()) && (over || !kept(e.getValue(), had));
            if (left) over(c, e.getValue());
            return left;
        });
        if (c.instances.isEmpty()) c.bound.clear();
    }

    private static boolean kept(long inst, List<Component> by) {
        for (Component c : by) for (Set<Long> keeps : c.keeps.values()) if (keeps.contains(inst)) return true;
        return false;
    }

    // Whom a component has an instance for.
    private Set<String> whose(Component c) {
        String scope = c.description.scope == null ? "singleton" : c.description.scope;
        if (scope.equals("singleton")) return Set.of("");
        if (scope.equals("bundle")) return new HashSet<>(using(c));
        Set<String> whose = new HashSet<>();
        for (Component consumer : all) {
            if (!active(consumer)) continue;
            for (ReferenceDTO r : consumer.references)
                if (boundTo(consumer, r).contains(c.service)) whose.add(whose(c, consumer, r));
        }
        return whose;
    }

    private boolean dependsOn(Component consumer, Component service) {
        for (ReferenceDTO r : consumer.references)
            for (String name : service.description.serviceInterfaces) if (r.interfaceName.equals(name)) return true;
        return false;
    }

    private void over(Component c, long inst) {
        begin(c, inst);
        c.ending.remove(inst);
        c.keeps.remove(inst);
        recorder.dispose(inst, root.scope(), Event.Dispose.By.CONTAINER, Event.State.DONE, 0, null);
    }

    // Failing: what was never had, when there was time enough, or at the end.
    private void miss(Component c, List<Component> all, boolean atEnd) {
        if (c.failed || c.registered == null) return;
        if (!atEnd && (c.judged || Recorder.now() - c.since < PATIENCE)) return;
        c.judged = true;
        boolean bad =
                !c.satisfied && c.now != null && (c.now.state & ComponentConfigurationDTO.UNSATISFIED_REFERENCE) != 0;
        for (ReferenceDTO r : c.references) {
            boolean optional = r.cardinality.startsWith("0");
            if (c.filled.contains(r.name) || optional && targetOf(c, r) == null || !optional && !bad) continue;
            List<Component> candidates = providers(r, targetOf(c, r), all);
            List<String> path = new ArrayList<>(List.of(c.name()));
            Event.Fail fail = new Event.Fail()
                    .service(r.interfaceName)
                    .key(keyOf(targetOf(c, r)))
                    .site(r.name)
                    .forReg(c.registered.reg);
            if (optional) fail.optional(true);
            if (candidates.isEmpty() && !provided.contains(r.interfaceName + " " + targetOf(c, r))) {
                path.add(r.interfaceName);
                recorder.fail(fail.why(Event.Fail.Why.MISSING).path(path));
                c.failed = true;
            } else if (!optional && !candidates.isEmpty()) {
                List<Component> circle = circle(c, all);
                if (circle.isEmpty()) continue; // what it waits for says why
                path.clear();
                for (Component one : circle) {
                    path.add(one.name());
                    one.failed = true; // it is one and the same circle
                }
                path.add(circle.get(0).name());
                recorder.fail(fail.service(circle.get(0).name())
                        .key(null)
                        .why(Event.Fail.Why.CYCLE)
                        .path(path));
                return;
            }
        }
    }

    private static List<Component> providers(ReferenceDTO r, String target, List<Component> all) {
        List<Component> list = new ArrayList<>();
        for (Component c : all) {
            if (c.now == null || !Arrays.asList(c.description.serviceInterfaces).contains(r.interfaceName)) continue;
            if (target == null || matches(target, c.now.properties, r.interfaceName)) list.add(c);
        }
        return list;
    }

    // The way from a component through what it needs back to itself, empty where there is none.
    private static List<Component> circle(Component from, List<Component> all) {
        List<Component> path = new ArrayList<>();
        return leadsTo(from, from, all, new HashSet<>(), path) ? path : List.of();
    }

    // Each component is inspected once: one that did not lead there does not lead there by another way.
    private static boolean leadsTo(
            Component to, Component at, List<Component> all, Set<Component> seen, List<Component> path) {
        if (!seen.add(at) || path.size() > DEEPEST) return false;
        path.add(at);
        for (ReferenceDTO r : at.references) {
            if (r.cardinality.startsWith("0")) continue;
            for (Component next : providers(r, targetOf(at, r), all))
                if (next == to || leadsTo(to, next, all, seen, path)) return true;
        }
        path.remove(path.size() - 1);
        return false;
    }

    /** Records that the runtime is going: it deactivates all its components. */
    synchronized void end() {
        if (over) return;
        try {
            read(true);
        } catch (RuntimeException e) {
            // It reports nothing any more.
        }
        List<Component> left = new ArrayList<>(known.values());
        for (Component c : left) miss(c, left, true);
        for (Component c : left) c.now = null;
        over = true;
        dispose(left);
        recorder.close(root.scope());
        recorder.forgetContainer(root);
    }

    /** Whether its runtime has ended: what is alive otherwise goes on. */
    synchronized boolean over() {
        return over;
    }
}
