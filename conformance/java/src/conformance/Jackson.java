package conformance;

import com.fasterxml.jackson.core.JsonProcessingException;
import com.fasterxml.jackson.core.type.TypeReference;
import com.fasterxml.jackson.databind.JsonMappingException;
import com.fasterxml.jackson.databind.ObjectMapper;
import conformance.gen.faithful.JacksonStubs;
import conformance.gen.skerry.language.Chain;
import conformance.gen.skerry.language.Fare;
import conformance.gen.skerry.language.FootPassage;
import conformance.gen.skerry.language.Passage;
import conformance.gen.skerry.shared.Deck;
import java.math.BigDecimal;
import java.util.List;
import java.util.Map;

/** Writes and reads messages inside of structures that Jackson knows, and prints what comes of it. */
public final class Jackson {
  /** Is a structure of the user's own. */
  record Log(String by, List<Chain> chains, Passage last, Map<String, Fare> fares, Deck deck) {}

  private Jackson() {}

  public static void main(String[] args) throws JsonProcessingException {
    ObjectMapper mapper = new ObjectMapper().registerModule(new JacksonStubs());
    Passage foot = new Passage.Foot(FootPassage.builder().dogs(1).build());
    Passage weight = new Passage.Weight(new BigDecimal("12.50"));
    Log log =
        new Log(
            "the quay",
            List.of(Chain.builder().next(foot).passage(List.of(weight)).build()),
            weight,
            Map.of("child", new Fare(new BigDecimal("7.00"))),
            Deck.ofNumber(40));
    String text = mapper.writeValueAsString(log);
    System.out.println(text);
    Log read = mapper.readValue(text, Log.class);
    System.out.println(mapper.writeValueAsString(read).equals(text) && read.chains().equals(log.chains()));

    String unlisted = "[{\"passage\":[],\"#77\":\"GCA\",\"crew\":[1,2.5e300,null,true]}]";
    List<Chain> chains = mapper.readValue(unlisted, new TypeReference<>() {});
    System.out.println(mapper.writeValueAsString(chains));
    try {
      mapper.readValue("{\"chains\":[{\"passage\":[{\"foot\":{\"dogs\":\"two\"}}]}]}", Log.class);
    } catch (JsonMappingException e) {
      System.out.println(e.getOriginalMessage());
    }
  }
}
