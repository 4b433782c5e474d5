import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;

/**
 * Makes the stubs before they are compiled. On a machine that only builds, without {@code faithful} or the definitions, the
 * stubs that are there are compiled.
 */
final class GenerateStubs {
  private GenerateStubs() {}

  public static void main(String[] arguments) throws InterruptedException {
    Path stubs = Path.of(arguments[0]).toAbsolutePath().normalize();
    Path project = stubs;
    while (project != null && !Files.exists(project.resolve("faithful.toml"))) {
      project = project.getParent();
    }
    if (project == null) {
      without(stubs, "no folder above has a faithful.toml");
      return;
    }
    String command = System.getenv().getOrDefault("FAITHFUL", "faithful");
    Process process;
    try {
      process = new ProcessBuilder(command, "generate").directory(project.toFile()).inheritIO().start();
    } catch (IOException e) {
      without(stubs, command + " can't be started: install it, or name it by the environment variable FAITHFUL");
      return;
    }
    System.exit(process.waitFor());
  }

  private static void without(Path stubs, String why) {
    if (Files.isDirectory(stubs)) {
      System.out.println("The stubs in " + stubs + " are compiled as they are, because " + why);
      return;
    }
    System.err.println("There are no stubs in " + stubs + ", and none can be made, because " + why);
    System.exit(1);
  }
}
