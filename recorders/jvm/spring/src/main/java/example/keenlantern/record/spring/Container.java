package example.keenlantern.record.spring;

import example.keenlantern.record.Also;
import example.keenlantern.record.Event;
import example.keenlantern.record.Given;
import example.keenlantern.record.Need;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.StandIn;
import java.lang.reflect.Executable;
import java.lang.reflect.Method;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.Collections;
import java.util.HashSet;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.Set;
import java.util.StringJoiner;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ExecutorService;
import org.springframework.beans.factory.BeanFactoryUtils;
import org.springframework.beans.factory.DisposableBean;
import org.springframework.beans.factory.FactoryBean;
import org.springframework.beans.factory.annotation.InitDestroyAnnotationBeanPostProcessor;
import org.springframework.beans.factory.config.BeanDefinition;
import org.springframework.beans.factory.config.BeanPostProcessor;
import org.springframework.beans.factory.config.DependencyDescriptor;
import org.springframework.beans.factory.support.AbstractBeanDefinition;
import org.springframework.beans.factory.support.AutowireCandidateQualifier;
import org.springframework.beans.factory.support.DefaultListableBeanFactory;
import org.springframework.beans.factory.support.RootBeanDefinition;
import org.springframework.context.annotation.Configuration;
import org.springframework.core.MethodParameter;
import org.springframework.core.ResolvableType;
import org.springframework.core.annotation.MergedAnnotations;
import org.springframework.util.ClassUtils;

/**
 * A bean factory that is recorded: what it registers, builds, hands out and destroys. It gets that from what is set on the
 * factory by its public extension points, and reports to the recorder.
 */
final class Container {
    static final String SCOPED_TARGET = "scopedTarget.";
    private static final int MOST_BEANS = 20_000; // more would come from an attacker

    final Recorder recorder;
    final DefaultListableBeanFactory beans;
    final Recorder.Root root;
    final Reading reading;
    final Scopes scopes;
    private final Map<String, Bean> known = new ConcurrentHashMap<>();
    private final Map<Place, Boolean> answered = new ConcurrentHashMap<>(); // sites for which there is something
    private final Map<Place, Asked> providers = new ConcurrentHashMap<>(); // through which code asks
    private volatile Set<String> shared = Set.of(); // types that several definitions answer to
    private final ThreadLocal<Boolean> looking = new ThreadLocal<>();
    private final ThreadLocal<Asked> provider = new ThreadLocal<>();
    private final ThreadLocal<Ending> ending = new ThreadLocal<>();
    private volatile boolean complete; // all definitions have been read
    // Singletons of the application that have not been built so far. The framework has some that hardly ever are.
    private final Set<String> unbuilt = ConcurrentHashMap.newKeySet();
    private Hooks hooks;
    private Runnable unwatched = () -> {};
    private volatile int built = -1; // so many definitions there were when no singleton was left to be built

    /** A singleton whose destruction has begun. */
    private record Ending(Object object, long inst) {}

    Container(Recorder recorder, DefaultListableBeanFactory beans, String name, Container around) {
        this.recorder = recorder;
        this.beans = beans;
        reading = new Reading(beans);
        scopes = new Scopes(this);
        root = recorder.root(
                new Event.Container()
                        .name(name)
                        .duplicates(Event.Duplicates.PRIMARY)
                        .cycles(beans.isAllowCircularReferences() ? Event.Cycles.PROXIED : Event.Cycles.REFUSED),
                around == null ? 0 : around.root.container());
    }

    /** Has what is built be watched. */
    void watch() {
        hooks = new Hooks(this);
        unwatched = recorder.whenSwitched(hooks::put, this::rest);
    }

    /** Has what injection points ask for, and scopes, be watched, too. */
    void watchAll() {
        hooks.watch(new WatchedResolver(this, beans.getAutowireCandidateResolver()));
        scopes.watch(hooks);
    }

    // There is nothing to see for the time being.
    private void rest() {
        if (!passesAll()) return;
        hooks.takeAway();
        if (recorder.on()) hooks.put(); // it was switched on meanwhile
    }

    // Registrations.

    /** Records all definitions, now that there will be no more but by application code. */
    void registerAll() {
        Set<String> once = new HashSet<>();
        Set<String> several = new HashSet<>();
        List<String> names = new ArrayList<>();
        for (String name : beans.getBeanDefinitionNames()) {
            if (!(beans.getMergedBeanDefinition(name) instanceof RootBeanDefinition d) || d.isAbstract()) continue;
            names.add(name);
            if (internal(name, d) || !d.isAutowireCandidate()) continue;
            Set<String> types = new LinkedHashSet<>(Reading.typesOf(typeOf(name, d)));
            for (String type : types) if (!once.add(type)) several.add(type);
        }
        shared = several;
        for (String name : names) bean(name);
        complete = true;
        for (String name : names) {
            Bean bean = bean(name);
            if (bean == null || bean.internal) continue;
            try {
                needs(bean, (RootBeanDefinition) beans.getMergedBeanDefinition(name));
            } catch (RuntimeException | LinkageError e) {
                recorder.trouble(e); // what it needs is recorded when it is built
            }
        }
        for (String name : beans.getSingletonNames()) external(name);
    }

    private void external(String name) {
        if (beans.containsBeanDefinition(name) || known.containsKey(name)) return;
        Object object = beans.getSingleton(name);
        if (object == null || recorder.idOf(object) != 0) return;
        String type = ClassUtils.getUserClass(object).getName();
        boolean internal = framework(type) || type.startsWith("java.");
        Bean bean = register(name, null, ResolvableType.forInstance(object), internal, Event.Lifetime.EXTERNAL);
        recorder.make(
                new Event.Make()
                        .reg(bean.reg)
                        .scope(0)
                        .by(Event.Make.By.EXTERNAL)
                        .impl(type)
                        .container(root.container()),
                object);
    }

    /** The recorded definition of a name, null where there is none. */
    Bean bean(String name) {
        Bean bean = known.get(name);
        if (bean != null || !beans.containsBeanDefinition(name)) return bean;
        if (known.size() > MOST_BEANS || !(beans.getMergedBeanDefinition(name) instanceof RootBeanDefinition d))
            return null;
        Event.Lifetime lifetime = d.isSingleton()
                ? Event.Lifetime.SINGLETON
                : d.isPrototype() ? Event.Lifetime.TRANSIENT : Event.Lifetime.SCOPED;
        ResolvableType type = typeOf(name, d);
        boolean internal = internal(name, d);
        if (d.getDecoratedDefinition() != null) bean(SCOPED_TARGET + name);
        // Nothing is asked of the container while this lock is held: it has locks of its own.
        synchronized (known) {
            bean = known.get(name);
            if (bean != null) return bean;
            return register(name, d, type, internal, lifetime);
        }
    }

    private Bean register(
            String name, RootBeanDefinition d, ResolvableType type, boolean internal, Event.Lifetime lifetime) {
        Set<String> types = Reading.typesOf(type);
        String service = types.isEmpty() ? name : types.iterator().next();
        boolean candidate = d == null || d.isAutowireCandidate();
        Set<String> keys = new LinkedHashSet<>();
        String key = null;
        if (!internal) {
            keys.addAll(qualifiersOf(name, d));
            keys.add(name);
            keys.addAll(Arrays.asList(beans.getAliases(name)));
            boolean several = types.stream().anyMatch(shared::contains);
            if (several || !candidate || complete && others(service))
                key = keys.iterator().next();
        }
        Event.Register told = new Event.Register()
                .service(service)
                .key(key)
                .lifetime(lifetime)
                .container(root.container())
                .at(placeOf(name, d));
        if (internal) told.internal(true);
        else told.also(also(types, keys, service, key, candidate));
        Bean target = null;
        String impl = null;
        boolean watched = false;
        if (d != null) {
            if (d.isPrimary()) told.primary(true);
            Class<?> made = d.getFactoryMethodName() == null && d.hasBeanClass() ? d.getBeanClass() : null;
            if (made != null && !FactoryBean.class.isAssignableFrom(made)) impl = made.getName();
            told.impl(impl);
            if (d.getDecoratedDefinition() != null) target = known.get(SCOPED_TARGET + name);
            if (lifetime == Event.Lifetime.TRANSIENT) told.disposer(Event.Disposer.NOBODY);
            watched = canBeWatched(names(service, name), name, d);
            told.sees(recorder.seesOf(watched));
        }
        if (target != null) told.proxy(target.reg);
        long reg = recorder.register(told);
        Bean bean = new Bean(
                name, reg, told, lifetime, internal, service, key, impl, watched, watched && promisesInterface(d));
        if (lifetime == Event.Lifetime.SINGLETON && !internal) unbuilt.add(name);
        known.put(name, bean);
        return bean;
    }

    private static String[] names(String service, String name) {
        String simple = service.substring(service.lastIndexOf('.') + 1);
        return new String[] {service, simple, simple.substring(simple.lastIndexOf('$') + 1), name};
    }

    private static boolean promisesInterface(RootBeanDefinition d) {
        return d.getFactoryMethodName() != null
                && d.getResolvableType().toClass().isInterface();
    }

    // Calls are seen by interface where the definition promises no more than that, else through a proxy of the class.
    private boolean canBeWatched(String[] names, String name, RootBeanDefinition d) {
        if (!recorder.wantsUses(names)) return false;
        if (promisesInterface(d)) return true;
        if (d.getDecoratedDefinition() != null) return false; // a proxy already, for the one that it stands for
        Class<?> type = beans.getType(name, false);
        return type != null && !FactoryBean.class.isAssignableFrom(type) && ClassProxies.fit(type);
    }

    private boolean others(String service) {
        return known.values().stream().anyMatch(b -> !b.internal && b.key == null && b.service.equals(service));
    }

    private static List<Also> also(Set<String> types, Set<String> keys, String service, String key, boolean candidate) {
        List<Also> list = new ArrayList<>();
        for (String type : types) {
            if (candidate && !(type.equals(service) && key == null)) list.add(new Also(type, null));
            for (String k : keys) if (!(type.equals(service) && k.equals(key))) list.add(new Also(type, k));
        }
        return list;
    }

    private Set<String> qualifiersOf(String name, RootBeanDefinition d) {
        Set<String> found = new LinkedHashSet<>();
        if (d == null) return found;
        for (AutowireCandidateQualifier q : d.getQualifiers()) {
            Object value = q.getAttribute(AutowireCandidateQualifier.VALUE_KEY);
            if (value != null) found.add(value.toString());
        }
        Method method = d.getResolvedFactoryMethod();
        String key = null;
        if (method != null) key = Reading.keyOf(MergedAnnotations.from(method));
        else if (d.getFactoryMethodName() == null) {
            // Of what was found by scanning, the definition has no class yet.
            Class<?> type = d.hasBeanClass() ? d.getBeanClass() : beans.getType(name, false);
            if (type != null) key = Reading.keyOf(MergedAnnotations.from(ClassUtils.getUserClass(type)));
        }
        if (key != null) found.add(key);
        return found;
    }

    private ResolvableType typeOf(String name, RootBeanDefinition d) {
        if (d.getDecoratedDefinition() != null && beans.containsBeanDefinition(SCOPED_TARGET + name)) {
            String target = SCOPED_TARGET + name;
            return typeOf(target, (RootBeanDefinition) beans.getMergedBeanDefinition(target));
        }
        Class<?> known = beans.getType(name, false); // it finds out about factory methods, too
        ResolvableType type = d.getResolvableType();
        if (type.resolve() == null || FactoryBean.class.isAssignableFrom(type.toClass())) {
            if (known != null) return ResolvableType.forClass(known);
        }
        return type;
    }

    private boolean internal(String name, RootBeanDefinition d) {
        if (d.getRole() != BeanDefinition.ROLE_APPLICATION) return true;
        // A class of definitions is part of the wiring itself.
        if (d.hasBeanClass()
                && d.getFactoryMethodName() == null
                && MergedAnnotations.from(ClassUtils.getUserClass(d.getBeanClass()))
                        .isPresent(Configuration.class)) return true;
        if (d.getDecoratedDefinition() != null && beans.containsBeanDefinition(SCOPED_TARGET + name)) return false;
        String type = null;
        Method method = d.getResolvedFactoryMethod();
        if (method != null) type = method.getDeclaringClass().getName();
        else if (d.getFactoryMethodName() != null && d.getFactoryBeanName() != null) {
            Class<?> factory = beans.getType(d.getFactoryBeanName(), false);
            type = factory == null ? null : factory.getName();
        }
        if (type == null) type = d.getBeanClassName();
        return framework(type != null ? type : typeOf(name, d).toClass().getName());
    }

    // Reports whether code of the framework's own asked the container for a bean by its name just now.
    private static boolean askedByFramework() {
        return StackWalker.getInstance()
                .walk(frames -> frames.map(StackWalker.StackFrame::getClassName)
                        .filter(name -> !name.startsWith("example.keenlantern.record.")
                                && !name.startsWith("org.springframework.beans.")
                                && !name.equals("org.springframework.context.support.AbstractApplicationContext"))
                        .findFirst())
                .filter(Container::framework)
                .isPresent();
    }

    private static boolean framework(String type) {
        return type.startsWith("org.springframework.") || type.startsWith("example.keenlantern.record.");
    }

    private static String placeOf(String name, RootBeanDefinition d) {
        if (d == null) return null;
        Method method = d.getResolvedFactoryMethod();
        if (method != null)
            return ClassUtils.getUserClass(method.getDeclaringClass()).getName() + "." + method.getName();
        if (d.getFactoryMethodName() != null)
            return (d.getFactoryBeanName() == null ? d.getBeanClassName() : d.getFactoryBeanName()) + "."
                    + d.getFactoryMethodName();
        return d.getBeanClassName() == null ? name : d.getBeanClassName();
    }

    private void needs(Bean bean, RootBeanDefinition d) {
        Executable executable = d.getResolvedFactoryMethod();
        if (executable == null
                && d.getFactoryMethodName() == null
                && d.hasBeanClass()
                && d.getInstanceSupplier() == null) executable = Reading.constructorOf(d.getBeanClass());
        Class<?> type = executable == null ? null : d.getResolvedFactoryMethod() != null ? null : d.getBeanClass();
        if (executable != null) bean.sites = reading.sitesOf(executable);
        // Of what a factory method returns, the class is known once there is one.
        if (type != null) bean.members = reading.membersOf(type, d);
        tellNeeds(bean);
    }

    private void tellNeeds(Bean bean) {
        List<Need> needs = new ArrayList<>();
        if (bean.sites != null) for (Site site : bean.sites.list()) if (!site.value()) needs.add(site.need());
        if (bean.members != null)
            for (Member member : bean.members) needs.add(member.site().need());
        if (needs.isEmpty() || bean.internal) return;
        bean.told = bean.told.copy().needs(needs);
        if (bean.sites != null) bean.told.signature(signature(bean.sites.of()));
        recorder.registerAgain(bean.reg, bean.told);
    }

    // A constructor as people write it, "BerthPlanner(TideSource, BerthLedger)"; a factory method behind its class and
    // a dot.
    private static String signature(Executable of) {
        StringBuilder text = new StringBuilder(ClassUtils.getShortName(of.getDeclaringClass()));
        if (of instanceof Method) text.append('.').append(of.getName());
        StringJoiner types = new StringJoiner(", ", "(", ")");
        for (Class<?> type : of.getParameterTypes()) types.add(type.getSimpleName());
        return text.append(types).toString();
    }

    // How a bean's instances declare that they are destroyed shows with the first of them.
    private void tellMechanism(Bean bean, Object object) {
        Event.Mechanism mechanism = object instanceof DisposableBean
                        || object instanceof AutoCloseable && !(object instanceof ExecutorService)
                ? Event.Mechanism.INTERFACE
                : destroyedByAnnotation(object) ? Event.Mechanism.ANNOTATION : Event.Mechanism.NAME;
        bean.told = bean.told.copy().mechanism(mechanism);
        recorder.registerAgain(bean.reg, bean.told);
    }

    // Building.

    /** Whether nothing that is built is to be recorded: recording is off, and all of the application that outlives anything is there. */
    boolean passesAll() {
        return !recorder.on() && beans.getBeanDefinitionCount() == built;
    }

    private void isBuilt(Bean bean) {
        if (!unbuilt.remove(bean.name) || !unbuilt.isEmpty() || !complete) return;
        String[] names = beans.getBeanDefinitionNames(); // there may be more of them now
        for (String name : names)
            if (!known.containsKey(name) && !beans.getMergedBeanDefinition(name).isAbstract()) return;
        built = names.length;
        rest();
    }

    /** Whether nothing that is built of a name is to be recorded: recording is off, and it outlives nothing. */
    boolean passes(String name) {
        if (passesAll()) return true;
        if (recorder.on() || name == null) return false;
        Bean bean = known.get(name);
        return bean != null && !bean.singleton();
    }

    /** Records that a constructor or factory method is about to be called, for what is returned. */
    Building instantiating(RootBeanDefinition d, String name, Executable by, Object[] args) {
        if (!recorder.on() && !d.isSingleton() || passesAll()) return null; // as in passes, sooner
        Building building = Building.latest();
        Bean bean = name == null ? null : bean(name);
        boolean asked = bean != null
                && building != null
                && building.container == this
                && !building.instantiated
                && building.asked.equals(name);
        if (!asked) {
            building = Building.begin(this, name == null ? "" : name);
            building.own = true;
        }
        building.bean = bean;
        building.instantiated = true;
        building.byFactory = by instanceof Method;
        goesOn(building);
        building.latest = null;
        building.with = bean == null ? inner(args) : with(bean, by, args);
        return building;
    }

    private List<Object> inner(Object[] args) {
        List<Object> with = new ArrayList<>();
        for (Object arg : args) {
            long id = recorder.idOf(arg);
            if (id != 0) with.add(id);
        }
        return with;
    }

    private List<Object> with(Bean bean, Executable by, Object[] args) {
        if (by == null || args.length == 0) return List.of();
        Sites sites = bean.sites;
        if (sites == null || !sites.of().equals(by)) {
            sites = reading.sitesOf(by);
            bean.sites = sites;
            tellNeeds(bean);
        }
        List<Object> with = new ArrayList<>(args.length);
        for (int n = 0; n < args.length && n < sites.list().size(); n++) {
            Site site = sites.list().get(n);
            if (site.value() || site.lazy()) continue;
            Object given = given(args[n], site.all());
            // What the framework's own factory methods are given, they mostly only read.
            if (bean.internal && by instanceof Method && given instanceof Long id)
                given = new Given(id, null, null, null, 0, false, false);
            with.add(given);
        }
        return with;
    }

    private Object given(Object arg, boolean all) {
        if (arg instanceof Optional<?> optional) arg = optional.orElse(null);
        if (arg == null) return null;
        if (!all) return recorder.idOf(arg);
        Collection<?> list = arg instanceof Map<?, ?> map
                ? map.values()
                : arg instanceof Object[] array ? Arrays.asList(array) : arg instanceof Collection<?> c ? c : List.of();
        return list.stream().map(recorder::idOf).toList();
    }

    /** Records that an object has been constructed, or that it could not be. */
    void instantiated(Building building, Object raw, Throwable thrown) {
        building.raw = raw;
        building.thrown = thrown;
        if (!building.own) return;
        building.end();
        if (thrown == null && building.bean == null) makeInner(building);
    }

    // An inner bean lives as long as what it is part of; any other without a definition was built on behalf of
    // application code.
    private void makeInner(Building building) {
        String impl = ClassUtils.getUserClass(building.raw).getName();
        if (framework(impl) || impl.startsWith("java.")) return;
        Event.Make make = new Event.Make()
                .scope(Math.max(0, recorder.scope()))
                .with(building.with)
                .impl(impl)
                .by(Event.Make.By.DIRECT)
                .noOwner();
        recorder.make(make, building.raw);
    }

    /** Records that a bean is complete, with what was filled in. It returns what the application gets for it. */
    Object initialized(String name, Object object) {
        if (passes(name)) return object;
        Building building = Building.of(this, name);
        boolean product = !(object instanceof FactoryBean)
                && (building == null
                        || building.raw instanceof FactoryBean
                        || building.raw == null && beans.isFactoryBean(name));
        if (product) {
            if (beans.containsBeanDefinition(name) && beans.isFactoryBean(name)) product(name, object);
            return object;
        }
        if (building == null) return object;
        if (building.bean == null) building.bean = bean(name);
        if (building.bean == null) return object;
        if (building.raw == null) building.raw = object;
        boolean early = building.made;
        make(building, true);
        if (object != building.raw) recorder.standsFor(object, building.inst);
        fill(building);
        Bean bean = building.bean;
        if (early || bean.internal || building.inst == 0 || !bean.watched) return object;
        Object handed = standIn(bean, building, object);
        if (handed != null) return handed;
        // The definition promised a class that can be watched, and the instance's own cannot.
        bean.watched = false;
        bean.told = bean.told.copy().sees(null);
        recorder.registerAgain(bean.reg, bean.told);
        return object;
    }

    // Returns null if the object cannot be proxied.
    private Object standIn(Bean bean, Building building, Object object) {
        Set<String> disposers = endsOf(bean, building.raw).by();
        if (object instanceof ExecutorService) {
            disposers = new HashSet<>(disposers);
            disposers.addAll(List.of("shutdown", "shutdownNow", "close")); // any of them ends it
        }
        if (!bean.byInterface) return ClassProxies.of(recorder, object, building.raw, building.inst, disposers);
        Object instead = StandIn.of(recorder, object, building.inst, disposers);
        return instead == object ? null : instead;
    }

    /** Records that something else gets a bean before it is whole, as part of a cycle. */
    void early(String name, Object object) {
        Building building = Building.of(this, name);
        if (building == null || building.raw == null) return;
        if (building.bean == null) building.bean = bean(name);
        if (building.bean == null) return;
        make(building, true);
        if (object != building.raw) recorder.standsFor(object, building.inst);
    }

    // What a factory bean builds: the factory is its own affair.
    private void product(String name, Object object) {
        Bean bean = bean(name);
        if (bean == null || object == null || recorder.idOf(object) != 0) return;
        Event.Make make = new Event.Make()
                .reg(bean.reg)
                .scope(here())
                .impl(ClassUtils.getUserClass(object).getName())
                .container(root.container());
        if (!bean.internal && !isProxy(bean)) make.by(Event.Make.By.FACTORY);
        bean.inst = recorder.make(make, object);
        if (bean.singleton()) isBuilt(bean);
    }

    private boolean isProxy(Bean bean) {
        return known.containsKey(SCOPED_TARGET + bean.name);
    }

    private long here() {
        long scope = recorder.scope();
        return scope == 0 ? root.scope() : scope;
    }

    // seen: that it is destroyed would be seen
    private void make(Building building, boolean seen) {
        if (building.made) return;
        building.made = true;
        Bean bean = building.bean;
        if (building.raw instanceof FactoryBean) return; // what it builds is recorded
        boolean first = bean.ends == null;
        boolean destroys = endsOf(bean, building.raw).any();
        if (first && destroys && !bean.internal) tellMechanism(bean, building.raw);
        building.disposable = destroys && bean.lifetime != Event.Lifetime.TRANSIENT;
        Event.Make make = new Event.Make()
                .reg(bean.reg)
                .scope(here())
                .with(building.with)
                .ns(Recorder.now() - building.began)
                .container(root.container());
        if (building.byFactory) make.by(Event.Make.By.FACTORY);
        String impl = ClassUtils.getUserClass(building.raw).getName();
        if (!impl.equals(bean.impl)) make.impl(impl);
        if (destroys && seen) make.disposable(true);
        else if (building.raw instanceof AutoCloseable && !bean.internal) {
            // The application asked for it not to be closed.
            make.disposable(true).disposer(Event.Disposer.NOBODY);
        }
        if (bean.lifetime != Event.Lifetime.SINGLETON) {
            long home = homeOf(building);
            building.home = home;
            make.owner(home);
        }
        tellLayer(bean, building);
        building.inst = recorder.make(make, building.raw);
        if (bean.singleton()) {
            bean.inst = building.inst;
            isBuilt(bean);
        } else if (building.around != null) building.around.built(bean.name, building.inst);
        else give(building);
    }

    // A component whose constructor takes exactly one thing of a type that it is of itself, and not all of them, is a
    // layer around it.
    private void tellLayer(Bean bean, Building building) {
        if (bean.internal || bean.wraps != null || building.byFactory || bean.sites == null) return;
        bean.wraps = false;
        Site inner = null;
        int at = -1;
        int n = -1;
        for (Site site : bean.sites.list()) {
            if (site.value() || site.lazy()) continue;
            n++;
            Class<?> type = site.type().toClass();
            if (!type.isInterface() || !site.type().isInstance(building.raw) || common(type)) continue;
            if (inner != null || site.all()) return;
            inner = site;
            at = n;
        }
        if (inner == null || at >= building.with.size() || !(building.with.get(at) instanceof Long id) || id == 0)
            return;
        for (Bean other : known.values()) {
            if (other == bean || other.inst != id || other.internal) continue;
            bean.wraps = true;
            bean.told = bean.told.copy().wraps(other.reg);
            recorder.registerAgain(bean.reg, bean.told);
            return;
        }
    }

    private static boolean common(Class<?> type) {
        return type.getName().startsWith("java.") || framework(type.getName());
    }

    // A scoped bean ends with its scope; a prototype with what it is built for, or the work that asks for it.
    private long homeOf(Building building) {
        if (building.home != null) return building.home;
        Building around = building.around;
        if (around == null || around.container != this && around.bean == null) return here();
        if (around.bean != null && around.bean.singleton() || !around.instantiated && singleton(around))
            return around.container.root.scope();
        return around.container.homeOf(around);
    }

    private static boolean singleton(Building building) {
        Bean bean = building.bean != null ? building.bean : building.container.bean(building.asked);
        return bean != null && bean.singleton();
    }

    private void give(Building building) {
        if (building.inst == 0 || building.bean.internal) return;
        Event.Give give = new Event.Give()
                .inst(building.inst)
                .scope(here())
                .service(building.bean.service)
                .key(building.bean.key);
        Asked asked = building.provider;
        if (asked == null || !beans.isTypeMatch(building.bean.name, asked.site().type())) {
            give.how(Event.How.LOCATOR);
            if (recorder.work().kind() != null) give.entry(recorder.work().kind());
        } else {
            give.how(Event.How.PROVIDER)
                    .service(asked.site().service())
                    .key(asked.site().key())
                    .site(asked.site().name());
            if (asked.consumer() != null && asked.consumer().singleton()) give.to(asked.consumer().inst);
        }
        recorder.give(give);
    }

    // What was filled in after construction.
    private void fill(Building building) {
        Bean bean = building.bean;
        if (bean.internal || building.inst == 0) return;
        if (bean.members == null)
            bean.members = reading.membersOf(
                    building.raw.getClass(), (AbstractBeanDefinition) beans.getMergedBeanDefinition(bean.name));
        if (bean.members.isEmpty()) return;
        Set<String> names = null;
        for (Member member : bean.members) {
            Site site = member.site();
            if (site.lazy()) continue;
            if (member.field() != null) {
                filled(building, site, valueOf(member, building.raw));
                continue;
            }
            if (names == null) names = new LinkedHashSet<>(Arrays.asList(beans.getDependenciesForBean(bean.name)));
            if (member.ref() != null) {
                filled(building, site, instanceOf(building, member.ref()));
                continue;
            }
            List<String> fitting =
                    names.stream().filter(n -> fits(n, site.type())).toList();
            // Of several it is not known which; then nothing is said.
            if (site.all() || fitting.size() == 1)
                for (String name : fitting) filled(building, site, instanceOf(building, name));
        }
    }

    private boolean fits(String name, ResolvableType type) {
        return beans.containsBean(name) && beans.isTypeMatch(name, type);
    }

    private static Object valueOf(Member member, Object object) {
        try {
            member.field().setAccessible(true); // as the container did to fill it in
            return member.field().get(object);
        } catch (IllegalAccessException | RuntimeException e) {
            return null;
        }
    }

    private Object instanceOf(Building building, String name) {
        if (building.built != null)
            for (Building.Made made : building.built) if (made.name().equals(name)) return made.inst();
        return beans.containsSingleton(name) ? beans.getSingleton(name) : null;
    }

    private void filled(Building building, Site site, Object value) {
        if (value == null) return;
        Collection<?> all = site.all() && value instanceof Collection<?> c
                ? c
                : site.all() && value instanceof Map<?, ?> map ? map.values() : Collections.singleton(value);
        for (Object one : all) {
            if (one instanceof Optional<?> optional) one = optional.orElse(null);
            long inst = one instanceof Long id ? id : recorder.idOf(one);
            if (inst == 0) continue;
            Event.Give give = new Event.Give()
                    .inst(inst)
                    .to(building.inst)
                    .scope(here())
                    .how(site.how())
                    .site(site.name())
                    .service(site.service())
                    .key(site.key());
            if (site.all()) give.all(true);
            recorder.give(give);
        }
    }

    /** Records that a bean is no longer being asked for: it was built, was there, or could not be built. */
    void ended(Building building, String exception) {
        if (exception != null) {
            Event.Fail fail = building.failed != null ? building.failed : failure(building, exception);
            if (building.around == null) recorder.fail(fail);
            else {
                building.around.failed = fail;
                building.around.cyclic = building.failed != null
                        ? building.cyclic
                        : exception.endsWith("BeanCurrentlyInCreationException");
            }
            building.end();
            return;
        }
        goesOn(building);
        if (building.instantiated && building.raw != null && !building.made && building.bean != null)
            make(building, false); // before its completion could be reported
        building.end();
    }

    // Failing.

    // It was content without what could not be built. That the container passes over what is just being built, when it
    // looks for all of a type, is no failure.
    private void goesOn(Building building) {
        if (building.failed != null && !building.cyclic) recorder.fail(building.failed.optional(true));
        building.failed = null;
    }

    private Event.Fail failure(Building building, String exception) {
        String name = building.asked;
        Bean bean = building.bean != null ? building.bean : bean(name);
        String service = bean == null ? name : bean.service;
        List<String> path = new ArrayList<>();
        for (Building b = building; b != null; b = b.around) path.add(0, serviceOf(b));
        Event.Fail fail = new Event.Fail().scope(recorder.scope());
        if (exception.endsWith("BeanCurrentlyInCreationException")) {
            fail.why(Event.Fail.Why.CYCLE);
            path = cycle(building);
        } else if (exception.endsWith("ScopeNotActiveException")) {
            fail.why(Event.Fail.Why.NO_SCOPE);
        } else if (exception.endsWith("NoSuchBeanDefinitionException") && bean == null) {
            fail.why(Event.Fail.Why.MISSING);
            if (building.type != null) {
                fail.key(name);
                service = building.type();
                path.set(path.size() - 1, service);
            }
            if (building.around == null && askedByFramework()) fail.optional(true); // it goes on with a default
        } else {
            Event.Fail.Why why = building.thrown == null && building.latest != null ? whyNot(building.latest) : null;
            if (why != null) {
                Site site = siteOf(building.latest);
                service = site.service();
                fail.why(why).key(site.key()).site(site.name());
                if (bean != null) fail.forReg(bean.reg);
                if (why == Event.Fail.Why.CYCLE) path = cycle(building, service);
                else path.add(service);
            } else {
                fail.why(Event.Fail.Why.ERROR)
                        .error(
                                building.thrown == null
                                        ? exception
                                        : building.thrown.getClass().getName());
                if (bean != null) fail.key(bean.key);
            }
        }
        return fail.service(service).path(path);
    }

    private static String serviceOf(Building b) {
        Bean bean = b.bean != null ? b.bean : b.container.bean(b.asked);
        return bean == null ? b.asked : bean.service;
    }

    // From where it was first being built to where it was asked for again.
    private static List<String> cycle(Building last) {
        List<String> services = new ArrayList<>();
        services.add(serviceOf(last));
        for (Building b = last.around; b != null; b = b.around) {
            services.add(0, serviceOf(b));
            if (b.container == last.container && b.asked.equals(last.asked)) break;
        }
        return services;
    }

    private static List<String> cycle(Building last, String service) {
        List<String> services = new ArrayList<>();
        services.add(service);
        for (Building b = last; b != null; b = b.around) {
            services.add(0, serviceOf(b));
            if (services.get(0).equals(service)) break;
        }
        return services;
    }

    // Why what was asked for could not be had, where that is the container's own answer; null for anything else.
    private Event.Fail.Why whyNot(DependencyDescriptor descriptor) {
        List<String> candidates = candidatesFor(descriptor);
        if (candidates.isEmpty()) return Event.Fail.Why.MISSING;
        if (candidates.size() > 1) return Event.Fail.Why.AMBIGUOUS;
        return beans.isCurrentlyInCreation(candidates.get(0)) ? Event.Fail.Why.CYCLE : null;
    }

    private List<String> candidatesFor(DependencyDescriptor descriptor) {
        return Arrays.stream(BeanFactoryUtils.beanNamesForTypeIncludingAncestors(
                        beans, descriptor.getResolvableType(), true, descriptor.isEager()))
                .filter(name -> beans.isAutowireCandidate(name, descriptor))
                .toList();
    }

    private Site siteOf(DependencyDescriptor descriptor) {
        ResolvableType type = descriptor.getResolvableType();
        return new Site(
                descriptor.getDependencyName(),
                Reading.nameOf(type),
                Reading.keyOf(MergedAnnotations.from(descriptor.getAnnotations())),
                type,
                Event.How.CONSTRUCTOR,
                false,
                !descriptor.isRequired(),
                false,
                false);
    }

    /** Records that something is being resolved, in building something or by a provider that code asks. */
    void resolving(DependencyDescriptor descriptor) {
        if (looking.get() != null) return; // that is this recorder's own
        Building building = Building.latest();
        if (building != null) {
            goesOn(building);
            building.latest = descriptor;
            if (building.bean == null) building.bean = bean(building.asked);
            if (building.bean == null || building.bean.internal) return; // the container's own affair
        }
        if (building == null && !recorder.on()) return;
        if (building != null && descriptor.isRequired()) return; // its failure would be recorded
        if (framework(descriptor.getMember().getDeclaringClass().getName()))
            return; // the framework asks for what may be there
        Place at = placeOf(descriptor);
        Bean consumer;
        Site site;
        if (building != null) {
            consumer = building.bean;
            site = siteOf(descriptor);
        } else {
            Asked asked = asked(at, descriptor);
            consumer = asked.consumer();
            site = asked.site();
            if (consumer == null || !consumer.internal) provider.set(asked);
        }
        if (consumer != null && consumer.internal || answered.containsKey(at)) return;
        // A bean that may be absent is no failure, nor is an empty stream. A qualifier that no bean has is reported all
        // the same.
        boolean optional = !descriptor.isRequired()
                || descriptor.getClass().getSimpleName().startsWith("Stream");
        if (optional && site.key() == null) return;
        Class<?> type = descriptor.getDependencyType();
        if (type.isArray() || Collection.class.isAssignableFrom(type) || Map.class.isAssignableFrom(type)) return;
        if (!candidatesFor(descriptor).isEmpty()) {
            if (answered.size() < MOST_BEANS) answered.put(at, true);
            return;
        }
        if (isThereOtherwise(descriptor)) return;
        Event.Fail fail = new Event.Fail()
                .service(site.service())
                .key(site.key())
                .site(site.name())
                .why(Event.Fail.Why.MISSING)
                .scope(recorder.scope());
        if (optional) fail.optional(true);
        if (consumer != null) {
            if (building == null && consumer.singleton()) fail.to(consumer.inst);
            else fail.forReg(consumer.reg);
        }
        recorder.fail(fail);
    }

    // What the container itself answers with, such as its context: it is asked, and has no candidate to build.
    private boolean isThereOtherwise(DependencyDescriptor descriptor) {
        looking.set(true);
        try {
            DependencyDescriptor optional = new DependencyDescriptor(descriptor) {
                @Override
                public boolean isRequired() {
                    return false;
                }
            };
            return beans.doResolveDependency(optional, null, null, null) != null;
        } catch (RuntimeException e) {
            return true; // nothing that can be recorded
        } finally {
            looking.remove();
        }
    }

    /** An injection point: a field, or a parameter of a constructor or method. */
    private record Place(java.lang.reflect.Member member, int parameter) {}

    private static Place placeOf(DependencyDescriptor descriptor) {
        MethodParameter parameter = descriptor.getMethodParameter();
        return new Place(descriptor.getMember(), parameter == null ? -1 : parameter.getParameterIndex());
    }

    // Code may ask through a provider in every request: what that is about is found out once.
    private Asked asked(Place at, DependencyDescriptor descriptor) {
        Asked asked = providers.get(at);
        if (asked != null) return asked;
        asked = new Asked(consumerOf(descriptor), siteOf(descriptor), Set.copyOf(candidatesFor(descriptor)));
        if (complete && providers.size() < MOST_BEANS) providers.put(at, asked);
        return asked;
    }

    private Bean consumerOf(DependencyDescriptor descriptor) {
        Class<?> declaring = descriptor.getMember().getDeclaringClass();
        for (Bean bean : known.values()) {
            if (bean.sites != null && bean.sites.of().equals(descriptor.getMember())) return bean;
            if (declaring.getName().equals(bean.impl)) return bean;
        }
        return null;
    }

    /**
     * What was asked for through a provider just now, where the bean of this name is what is built for it: null where the provider was
     * answered with what was there, such as a proxy, and something else is being built now.
     */
    Asked takeProvider(String name) {
        Asked asked = provider.get();
        if (asked == null) return null;
        provider.remove();
        return asked.names().contains(name) ? asked : null;
    }

    // Destruction.

    private Bean.Ends endsOf(Bean bean, Object object) {
        Bean.Ends ends = bean.ends;
        if (ends != null && ends.of() == object.getClass()) return ends;
        Set<String> by =
                Set.copyOf(destroyersOf((RootBeanDefinition) beans.getMergedBeanDefinition(bean.name), object));
        ends = new Bean.Ends(object.getClass(), by, !by.isEmpty() || destroyedByAnnotation(object));
        bean.ends = ends;
        return ends;
    }

    private List<String> destroyersOf(RootBeanDefinition d, Object object) {
        List<String> names = new ArrayList<>();
        if (object instanceof DisposableBean) names.add("destroy");
        String[] declared = d.getDestroyMethodNames();
        if (declared == null || declared.length == 1 && AbstractBeanDefinition.INFER_METHOD.equals(declared[0])) {
            boolean inferred = declared != null;
            if (object instanceof ExecutorService) names.add("shutdown");
            else if (object instanceof AutoCloseable) names.add("close");
            else if (inferred && names.isEmpty()) {
                if (ClassUtils.hasMethod(object.getClass(), "close")) names.add("close");
                else if (ClassUtils.hasMethod(object.getClass(), "shutdown")) names.add("shutdown");
            }
        } else for (String name : declared) if (!name.isEmpty()) names.add(name);
        return names;
    }

    private boolean destroyedByAnnotation(Object object) {
        for (BeanPostProcessor processor : beans.getBeanPostProcessors())
            if (processor instanceof InitDestroyAnnotationBeanPostProcessor p && p.requiresDestruction(object))
                return true;
        return false;
    }

    /** Whether the destruction of an object is to be recorded: of one that the container would destroy in any case. */
    boolean destroys(Object object) {
        Building building = Building.latest();
        if (building == null && !recorder.on()) return false; // nothing that is kept is being built
        if (building != null && building.raw == object) return building.disposable;
        return (object instanceof DisposableBean || object instanceof AutoCloseable) && recorder.idOf(object) != 0;
    }

    /** Records that a bean's destruction has begun. */
    void destroying(Object object) {
        long inst = recorder.idOf(object);
        if (inst == 0) return;
        Scopes.Ending scoped = Scopes.ending();
        if (scoped != null) {
            scoped.begun(object, inst);
            recorder.disposing(inst, scoped.scope());
            return;
        }
        // Singletons are destroyed one after the other: when one begins, the one before it is done.
        destroyed();
        ending.set(new Ending(object, inst));
        recorder.disposing(inst, root.scope());
    }

    private void destroyed() {
        Ending before = ending.get();
        if (before == null) return;
        ending.remove();
        recorder.disposed(before.object, before.inst, root.scope(), 0, null);
    }

    /** Records that all singletons have been destroyed. */
    void end() {
        destroyed();
        unwatched.run();
        recorder.close(root.scope());
        recorder.forgetContainer(root);
    }
}
