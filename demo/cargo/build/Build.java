import java.io.File;
import java.io.FileNotFoundException;
import java.io.InputStream;
import java.lang.reflect.InvocationTargetException;
import java.net.URI;
import java.net.URL;
import java.net.URLClassLoader;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.stream.Collectors;
import java.util.stream.Stream;
import javax.tools.ToolProvider;
import javax.xml.parsers.DocumentBuilderFactory;
import org.w3c.dom.Element;
import org.w3c.dom.Node;

/** Builds the two modules with nothing but a JDK: enough of a build for poms as small as ours. */
public class Build {
  static final Path JARS = Path.of("target", "jars");
  static final Map<String, String> PROPERTIES = new HashMap<>();
  static final Map<String, String> MANAGED = new HashMap<>();
  static final List<String> REPOSITORIES = new ArrayList<>();

  public static void main(String[] args) throws Exception {
    Element top = read(Path.of("pom.xml"));
    for (Element p : in(child(top, "properties"))) {
      PROPERTIES.put(p.getTagName(), p.getTextContent().trim());
    }
    for (Element r : in(child(top, "repositories"))) {
      REPOSITORIES.add(text(r, "url"));
    }
    manage(top);
    boolean good = true;
    for (Element m : in(child(top, "modules"))) {
      Path module = Path.of(m.getTextContent().trim());
      List<Path> path = classPath(read(module.resolve("pom.xml")));
      compile(module, "main", "classes", path);
      path.add(module.resolve("target/classes"));
      compile(module, "test", "test-classes", path);
      good &= !args[0].equals("test") || test(module, path);
    }
    System.exit(good ? 0 : 1);
  }

  /** Takes the versions that a pom manages, and those of the lists that it imports. */
  static void manage(Element pom) throws Exception {
    for (Element d : in(child(child(pom, "dependencyManagement"), "dependencies"))) {
      if ("import".equals(text(d, "scope"))) {
        manage(read(fetch(d, text(d, "version"), ".pom")));
      } else {
        MANAGED.putIfAbsent(name(d), text(d, "version"));
      }
    }
  }

  /** The nearest of each, then the first. */
  static List<Path> classPath(Element pom) throws Exception {
    List<Path> jars = new ArrayList<>();
    Set<String> seen = new HashSet<>();
    Deque<Element> queue = new ArrayDeque<>(List.of(pom));
    while (!queue.isEmpty()) {
      for (Element d : in(child(queue.remove(), "dependencies"))) {
        if (seen.add(name(d))) {
          String version = MANAGED.getOrDefault(name(d), text(d, "version"));
          jars.add(fetch(d, version, ".jar"));
          queue.add(read(fetch(d, version, ".pom")));
        }
      }
    }
    return jars;
  }

  static Path fetch(Element d, String version, String ending) throws Exception {
    String file = text(d, "artifactId") + "-" + version + ending;
    Path to = JARS.resolve(file);
    String folder = text(d, "groupId").replace('.', '/') + "/" + text(d, "artifactId") + "/" + version + "/";
    for (String repository : REPOSITORIES) {
      if (Files.exists(to)) {
        return to;
      }
      Files.createDirectories(JARS);
      try (InputStream from = new URI(repository + "/" + folder + file).toURL().openStream()) {
        Files.copy(from, to);
      } catch (FileNotFoundException elsewhere) {
        continue;
      }
    }
    if (!Files.exists(to)) {
      throw new IllegalStateException("no repository has " + file);
    }
    return to;
  }

  static void compile(Path module, String of, String into, List<Path> path) throws Exception {
    String classes = path.stream().map(Path::toString).collect(Collectors.joining(File.pathSeparator));
    List<String> command = new ArrayList<>(
        List.of("--release", expand("${maven.compiler.release}"), "-d", module + "/target/" + into, "-cp", classes));
    try (Stream<Path> files = Files.walk(module.resolve("src/" + of + "/java"))) {
      files.map(Path::toString).filter(f -> f.endsWith(".java")).sorted().forEach(command::add);
    }
    if (ToolProvider.getSystemJavaCompiler().run(null, null, null, command.toArray(new String[0])) != 0) {
      System.exit(1);
    }
  }

  /** Runs the methods without arguments of all classes that end in Test, and writes what came of them. */
  static boolean test(Path module, List<Path> path) throws Exception {
    Path classes = module.resolve("target/test-classes");
    List<URL> urls = new ArrayList<>(List.of(classes.toUri().toURL()));
    for (Path p : path) {
      urls.add(p.toUri().toURL());
    }
    List<Path> files;
    try (Stream<Path> all = Files.walk(classes)) {
      files = all.filter(f -> f.toString().endsWith("Test.class")).sorted().collect(Collectors.toList());
    }
    Path reports = Files.createDirectories(module.resolve("target/surefire-reports"));
    ClassLoader loader = new URLClassLoader(urls.toArray(new URL[0]));
    boolean good = true;
    for (Path file : files) {
      String name = classes.relativize(file).toString().replace(File.separatorChar, '.').replace(".class", "");
      StringBuilder cases = new StringBuilder();
      for (var method : loader.loadClass(name).getDeclaredMethods()) {
        if (method.getParameterCount() > 0 || method.isSynthetic()) {
          continue;
        }
        String failure = "";
        try {
          method.invoke(loader.loadClass(name).getDeclaredConstructor().newInstance());
        } catch (InvocationTargetException e) {
          good = false;
          System.out.println(name + "." + method.getName() + ": " + e.getCause());
          failure = "<failure message=\"" + escaped(e.getCause().toString()) + "\"/>";
        }
        cases.append("<testcase classname=\"" + name + "\" name=\"" + method.getName() + "\">" + failure + "</testcase>\n");
      }
      Files.writeString(reports.resolve("TEST-" + name + ".xml"), "<testsuite name=\"" + name + "\">\n" + cases + "</testsuite>\n");
    }
    return good;
  }

  static String escaped(String text) {
    return text.replace("&", "&amp;").replace("<", "&lt;").replace("\"", "&quot;");
  }

  static Element read(Path file) throws Exception {
    try (InputStream from = Files.newInputStream(file)) {
      return DocumentBuilderFactory.newInstance().newDocumentBuilder().parse(from).getDocumentElement();
    }
  }

  static List<Element> in(Element e) {
    List<Element> all = new ArrayList<>();
    for (Node n = e == null ? null : e.getFirstChild(); n != null; n = n.getNextSibling()) {
      if (n instanceof Element) {
        all.add((Element) n);
      }
    }
    return all;
  }

  static Element child(Element e, String name) {
    return in(e).stream().filter(c -> c.getTagName().equals(name)).findFirst().orElse(null);
  }

  static String text(Element e, String name) {
    Element c = child(e, name);
    return c == null ? null : expand(c.getTextContent().trim());
  }

  static String name(Element d) {
    return text(d, "groupId") + ":" + text(d, "artifactId");
  }

  static String expand(String text) {
    for (int start = text.indexOf("${"); start >= 0; start = text.indexOf("${")) {
      int end = text.indexOf('}', start);
      text = text.substring(0, start) + PROPERTIES.get(text.substring(start + 2, end)) + text.substring(end + 1);
    }
    return text;
  }
}
