package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import java.lang.annotation.Annotation;
import java.lang.reflect.AnnotatedElement;
import java.lang.reflect.Constructor;
import java.lang.reflect.Executable;
import java.lang.reflect.Method;
import java.lang.reflect.Modifier;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.Set;
import org.springframework.beans.BeanUtils;
import org.springframework.beans.PropertyValue;
import org.springframework.beans.factory.ObjectFactory;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.annotation.Lookup;
import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.beans.factory.config.DependencyDescriptor;
import org.springframework.beans.factory.config.RuntimeBeanReference;
import org.springframework.beans.factory.support.AbstractBeanDefinition;
import org.springframework.beans.factory.support.DefaultListableBeanFactory;
import org.springframework.context.annotation.Lazy;
import org.springframework.core.DefaultParameterNameDiscoverer;
import org.springframework.core.MethodParameter;
import org.springframework.core.ParameterNameDiscoverer;
import org.springframework.core.ResolvableType;
import org.springframework.core.annotation.MergedAnnotation;
import org.springframework.core.annotation.MergedAnnotations;
import org.springframework.util.ClassUtils;
import org.springframework.util.ReflectionUtils;

/** Reads what definitions and classes say they ask for, and what they answer to. */
final class Reading {
    private static final ParameterNameDiscoverer NAMES = new DefaultParameterNameDiscoverer();
    private static final Set<String> INJECTED = Set.of(
            "org.springframework.beans.factory.annotation.Autowired",
            "jakarta.inject.Inject",
            "jakarta.annotation.Resource");
    private static final Set<String> PROVIDERS =
            Set.of(ObjectFactory.class.getName(), ObjectProvider.class.getName(), "jakarta.inject.Provider");

    private final DefaultListableBeanFactory beans;

    Reading(DefaultListableBeanFactory beans) {
        this.beans = beans;
    }

    /** The name of a type, with its arguments where it has any that are known. */
    static String nameOf(ResolvableType type) {
        Class<?> raw = type.resolve();
        if (raw == null) return type.toString();
        if (!type.hasGenerics() || type.hasUnresolvableGenerics())
            return ClassUtils.getUserClass(raw).getName();
        return type.toString();
    }

    /** The types that something may be asked for by: its class and what that extends and implements, the application's own. */
    static Set<String> typesOf(ResolvableType type) {
        Set<String> names = new LinkedHashSet<>();
        addTypes(type, names);
        return names;
    }

    private static void addTypes(ResolvableType type, Set<String> names) {
        Class<?> raw = type.resolve();
        if (raw == null || raw == Object.class) return;
        boolean common = raw.getName().startsWith("java.") || raw.getName().startsWith("org.springframework.");
        if (!common || names.isEmpty()) {
            names.add(nameOf(type));
            names.add(ClassUtils.getUserClass(raw).getName());
        }
        if (common) return;
        addTypes(type.getSuperType(), names);
        for (ResolvableType i : type.getInterfaces()) addTypes(i, names);
    }

    /** What a constructor or factory method asks for. */
    Sites sitesOf(Executable executable) {
        String[] names = executable instanceof Constructor<?> c
                ? NAMES.getParameterNames(c)
                : NAMES.getParameterNames((Method) executable);
        List<Site> list = new ArrayList<>();
        for (int n = 0; n < executable.getParameterCount(); n++) {
            MethodParameter parameter = MethodParameter.forExecutable(executable, n);
            list.add(site(
                    new DependencyDescriptor(parameter, true),
                    parameter.getParameterAnnotations(),
                    ResolvableType.forMethodParameter(parameter),
                    names == null ? null : names[n],
                    Event.How.CONSTRUCTOR));
        }
        return new Sites(executable, list);
    }

    private Site site(
            DependencyDescriptor descriptor,
            Annotation[] annotations,
            ResolvableType type,
            String name,
            Event.How how) {
        MergedAnnotations found = MergedAnnotations.from(annotations);
        boolean optional = !descriptor.isRequired();
        boolean lazy = found.isPresent(Lazy.class) && found.get(Lazy.class).getBoolean("value");
        boolean all = false;
        Class<?> raw = type.toClass();
        if (raw == Optional.class) {
            optional = true;
            type = type.getGeneric();
            raw = type.toClass();
        } else if (PROVIDERS.contains(raw.getName())) {
            lazy = true;
            type = type.getGeneric();
            raw = type.toClass();
        }
        ResolvableType element = elementOf(type);
        // A bean may be a collection itself.
        if (element != null && namesFor(type).isEmpty()) {
            all = true;
            type = element;
            raw = type.toClass();
        }
        boolean value = found.isPresent(Value.class) || BeanUtils.isSimpleProperty(raw);
        String key = keyOf(found);
        if (key == null && !value && !all && name != null && decidedByName(type, name)) key = name;
        return new Site(name, nameOf(type), key, type, how, all, optional, lazy, value);
    }

    private static ResolvableType elementOf(ResolvableType type) {
        Class<?> raw = type.toClass();
        if (raw.isArray()) return type.getComponentType();
        if (Collection.class.isAssignableFrom(raw) && raw.isInterface())
            return type.asCollection().getGeneric();
        if (raw == Map.class && type.asMap().getGeneric(0).resolve() == String.class)
            return type.asMap().getGeneric(1);
        return null;
    }

    private List<String> namesFor(ResolvableType type) {
        return Arrays.asList(beans.getBeanNamesForType(type, true, false));
    }

    // Of several that answer, none of them primary, the one with the parameter's name is taken: that is asking by name.
    private boolean decidedByName(ResolvableType type, String name) {
        List<String> candidates = namesFor(type).stream()
                .filter(c -> beans.containsBeanDefinition(c)
                        && beans.getMergedBeanDefinition(c) instanceof AbstractBeanDefinition d
                        && d.isAutowireCandidate())
                .toList();
        if (candidates.size() < 2) return false;
        for (String c : candidates) if (beans.getMergedBeanDefinition(c).isPrimary()) return false;
        for (String c : candidates) {
            if (c.equals(name)) return true;
            for (String alias : beans.getAliases(c)) if (alias.equals(name)) return true;
        }
        return false;
    }

    /** The qualifier among some annotations, null for none. */
    static String keyOf(MergedAnnotations found) {
        MergedAnnotation<Qualifier> own = found.get(Qualifier.class);
        if (own.isPresent()) {
            String value = own.getString("value");
            if (!value.isEmpty()) return value;
            MergedAnnotation<?> custom = own.getMetaSource();
            return custom == null ? null : custom(custom);
        }
        MergedAnnotation<?> named = found.get("jakarta.inject.Named");
        if (named.isPresent() && !named.getString("value").isEmpty()) return named.getString("value");
        MergedAnnotation<?> other = found.get("jakarta.inject.Qualifier");
        return other.isPresent() && other.getMetaSource() != null ? custom(other.getMetaSource()) : null;
    }

    // An annotation of the application's own that is a qualifier: its name and what it says.
    private static String custom(MergedAnnotation<?> annotation) {
        String value = annotation.getValue("value").map(Object::toString).orElse("");
        return "@" + annotation.getType().getSimpleName() + (value.isEmpty() ? "" : "(" + value + ")");
    }

    /** What a class's fields and methods ask for. */
    List<Member> membersOf(Class<?> type, AbstractBeanDefinition definition) {
        List<Member> list = new ArrayList<>();
        Class<?> user = ClassUtils.getUserClass(type);
        ReflectionUtils.doWithFields(user, field -> {
            if (Modifier.isStatic(field.getModifiers()) || !injected(field)) return;
            DependencyDescriptor descriptor = new DependencyDescriptor(field, required(field));
            Site site = site(
                    descriptor,
                    field.getAnnotations(),
                    ResolvableType.forField(field, user),
                    field.getName(),
                    Event.How.FIELD);
            if (!site.value()) list.add(new Member(field, site, null));
        });
        ReflectionUtils.doWithMethods(user, method -> {
            if (Modifier.isStatic(method.getModifiers()) || method.isBridge()) return;
            if (method.isAnnotationPresent(Lookup.class)) {
                ResolvableType asked = ResolvableType.forMethodReturnType(method, user);
                String key = method.getAnnotation(Lookup.class).value();
                list.add(new Member(
                        null,
                        new Site(
                                method.getName(),
                                nameOf(asked),
                                key.isEmpty() ? null : key,
                                asked,
                                Event.How.PROVIDER,
                                false,
                                false,
                                true,
                                false),
                        null));
                return;
            }
            if (!injected(method)) return;
            String[] names = NAMES.getParameterNames(method);
            for (int n = 0; n < method.getParameterCount(); n++) {
                MethodParameter parameter = new MethodParameter(method, n).withContainingClass(user);
                Site site = site(
                        new DependencyDescriptor(parameter, required(method)),
                        parameter.getParameterAnnotations(),
                        ResolvableType.forMethodParameter(parameter),
                        names == null ? null : names[n],
                        Event.How.SETTER);
                if (!site.value()) list.add(new Member(null, site, null));
            }
        });
        for (PropertyValue property : definition.getPropertyValues()) {
            if (!(property.getValue() instanceof RuntimeBeanReference ref)) continue;
            Class<?> asked = BeanUtils.findPropertyType(property.getName(), user);
            list.add(new Member(
                    null,
                    new Site(
                            property.getName(),
                            asked.getName(),
                            ref.getBeanName(),
                            ResolvableType.forClass(asked),
                            Event.How.SETTER,
                            false,
                            false,
                            false,
                            false),
                    ref.getBeanName()));
        }
        return list;
    }

    private static boolean injected(AnnotatedElement element) {
        MergedAnnotations found = MergedAnnotations.from(element);
        for (String name : INJECTED) if (found.isPresent(name)) return true;
        return false;
    }

    private static boolean required(AnnotatedElement element) {
        MergedAnnotation<?> autowired =
                MergedAnnotations.from(element).get("org.springframework.beans.factory.annotation.Autowired");
        return !autowired.isPresent() || autowired.getBoolean("required");
    }

    /** The constructor that will be called, where there can be no doubt; null where there can. */
    static Constructor<?> constructorOf(Class<?> type) {
        if (type.isInterface()) return null;
        Constructor<?>[] all;
        try {
            all = ClassUtils.getUserClass(type).getDeclaredConstructors();
        } catch (LinkageError e) {
            return null; // some of what it needs is not there
        }
        if (all.length == 1) return all[0];
        Constructor<?> one = null;
        for (Constructor<?> c : all) {
            if (!injected(c)) continue;
            if (one != null) return null;
            one = c;
        }
        return one;
    }
}
