import java.io.File;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;

/**
 * Makes the stubs before they are compiled. Where {@code faithful} is not installed, as on a machine that only builds, the
 * stubs that are there are used.
 */
final class GenerateStubs {
  private GenerateStubs() {}

  public static void main(String[] arguments) throws IOException, InterruptedException {
    Path stubs = Path.of(arguments[0]).toAbsolutePath().normalize();
    String command = System.getenv().getOrDefault("FAITHFUL", "faithful");
    Process process;
    try {
      process = new ProcessBuilder(List.of(command, "generate")).directory(project(stubs)).inheritIO().start();
    } catch (IOException e) {
      if (Files.isDirectory(stubs)) {
        System.out.println(command + " is not installed here: using the stubs that are in " + stubs);
        return;
      }
      System.err.println("There are no stubs in " + stubs + ", and " + command + " can't be started to make them.");
      System.err.println("Install faithful, or name it by the environment variable FAITHFUL.");
      System.exit(1);
      return;
    }
    System.exit(process.waitFor());
  }

  /** Is the folder above the stubs that has faithful.toml. */
  private static File project(Path stubs) throws IOException {
    for (Path folder = stubs; folder != null; folder = folder.getParent()) {
      if (Files.exists(folder.resolve("faithful.toml"))) {
        return folder.toFile();
      }
    }
    throw new IOException("no folder above " + stubs + " has a faithful.toml");
  }
}
