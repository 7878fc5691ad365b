#include "photonlane/base/decimal.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <limits>

#include "photonlane/base/knob.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

Decimal decimal(std::string_view text) { return Decimal(text); }

TEST(Decimals, KeepWhatWasWritten) {
  for (const char* text :
       {"0", "-0.750", "1e-1000", "12345678901234567890.5", ".5", "3.", "1E+5"}) {
    EXPECT_EQ(decimal(text).text(), text);
  }
  EXPECT_EQ(decimal("+2.5").text(), "2.5");
  EXPECT_EQ(Decimal(0.1).text(), "0.1");
  EXPECT_EQ(decimal(Decimal(1.0 / 3).text()).value(), 1.0 / 3);
}

TEST(Decimals, TellTheirValueAndSizeBeyondDoubles) {
  EXPECT_EQ(decimal("-0.75").value(), -0.75);
  EXPECT_EQ(decimal("1e-1000").value(), 0);
  EXPECT_EQ(decimal("-1e1000").value(), -std::numeric_limits<double>::infinity());
  EXPECT_NEAR(decimal("2.5e-1000").log10(), -1000 + std::log10(2.5), 1e-9);
  EXPECT_NEAR(decimal("-0.00012").log10(), std::log10(0.00012), 1e-12);
  EXPECT_NEAR(decimal("123456789012345678901234567890").log10(), 29 + std::log10(1.2345678901),
              1e-9);
  EXPECT_EQ(decimal("0.000").log10(), -std::numeric_limits<double>::infinity());
}

TEST(Decimals, TellTheirLastPlace) {
  EXPECT_EQ(decimal("-0.750").last_place(), -3);
  EXPECT_EQ(decimal("12").last_place(), 0);
  EXPECT_EQ(decimal("1.5e-10").last_place(), -11);
  EXPECT_EQ(decimal("2e3").last_place(), 3);
  EXPECT_TRUE(decimal("1e-1000").positive());
  EXPECT_FALSE(decimal("-1e-1000").positive());
  EXPECT_FALSE(decimal("0.0").positive());
}

TEST(Decimals, RefuseWhatIsNone) {
  for (const char* text :
       {"", "-", ".", "1.2.3", "1e", "1e5.5", "0x10", "nan", "1 2", "1e9999999"}) {
    EXPECT_THROW(decimal(text), Error) << text;
  }
  EXPECT_THROW(Decimal{std::numeric_limits<double>::quiet_NaN()}, Error);
}

struct Pin {
  DecimalPoint at;
  std::optional<DecimalPoint> other;
  Decimal size{1.0};
};
const Knob<Pin> pin_knobs[] = {
    knob<&Pin::at>("at", "", {}, "where"),
    knob<&Pin::other>("other", "", {}, "where else"),
    knob<&Pin::size>("size", "", {0, 10, true}, "how large"),
};

TEST(Decimals, AreKnobs) {
  Pin pin;
  const std::span<const Knob<Pin>> table(pin_knobs);
  set_knob(table, pin, "at", "[ -0.1 , 2e-40 ]");
  EXPECT_EQ(pin.at.y.text(), "2e-40");
  set_knob(table, pin, "at", knob_text(*find_knob(table, "at"), pin));
  EXPECT_EQ(pin.at.x.text(), "-0.1");
  EXPECT_EQ(knob_text(*find_knob(table, "other"), pin), "none");
  set_knob(table, pin, "other", "1,2");
  ASSERT_TRUE(pin.other);
  set_knob(table, pin, "other", "none");
  EXPECT_FALSE(pin.other);
  const auto message = [&](std::string_view name, std::string_view text) -> std::string {
    try {
      set_knob(table, pin, name, text);
    } catch (const Error& error) {
      return error.message();
    }
    return "";
  };
  EXPECT_THAT(message("at", "1"), HasSubstr("two decimal numbers of any length"));
  EXPECT_THAT(message("at", "1,2,3"), HasSubstr("two decimal numbers"));
  EXPECT_THAT(message("size", "0"), HasSubstr("found '0', expected decimal number"));
  EXPECT_THAT(message("size", "-1e-50"), HasSubstr("more than 0"));
  EXPECT_EQ(pin.size.text(), "1");
}

}  // namespace
}  // namespace photonlane
