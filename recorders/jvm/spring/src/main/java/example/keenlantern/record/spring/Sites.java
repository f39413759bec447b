package example.keenlantern.record.spring;

import java.lang.reflect.Executable;
import java.util.List;

/**
 * What a constructor or factory method asks for.
 *
 * @param of the constructor or factory method
 * @param list a site for each parameter
 */
record Sites(Executable of, List<Site> list) {}
