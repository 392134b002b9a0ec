// What must not leave the machine in an archive that is mailed around: passwords, cookies, tokens. What a name says
// decides: the value of a header field, a part of a query, a field of a form or a member of a JSON object is left out
// where its name is in the table of secrets.cpp, which demo/uporter.toml tells.
//
// It looks at what was sent as text, not at what it may have meant, so it also holds for requests that were refused:
// rather one value too many is left out.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porter::exchange {

/// What stands in place of a value that was left out.
inline constexpr std::string_view kLeftOut = "(left-out)";

/// True for a name that means a secret: "password", "X-Api-Key", "user[passwd]", "sessionToken".
bool is_secret_name(std::string_view name);

/// `text` (a URL, the value of a field) with the values of all "name=value" in it left out whose name means a secret,
/// and the user and password of a URL.
std::string without_secrets(std::string_view text);

/// A field line of a head as it may be told. Its value is left out if its name means a secret; if it has no proper name
/// (a line without a colon), the whole line. `previous` is the name of the field before it, of which a line that begins
/// with a space is the continuation (RFC 9112, section 5.2).
std::pair<std::string, std::string> without_secrets(std::string_view name, std::string_view value,
                                                    std::string_view previous);

/// Leaves the secrets out of a body that comes piece by piece, in constant memory.
class SecretFilter {
 public:
  virtual ~SecretFilter() = default;
  /// Appends what may be told of `piece` to `out`.
  virtual void feed(std::string_view piece, std::string& out) = 0;
};

/// For JSON, also of several texts, broken off or malformed, and however deep.
class JsonSecrets : public SecretFilter {
 public:
  void feed(std::string_view piece, std::string& out) override;

 private:
  void take(char c, std::string& out);

  enum class In {
    between,       ///< Outside of a string.
    string,        ///< In one that may turn out to be a name.
    after_string,  ///< Behind one: a colon makes it a name.
    before_value,  ///< Behind the name of a secret.
    value_string,
    value_word,    ///< A number, true, false, null.
    value_nested,  ///< A list or an object.
    nested_string
  };
  In in_ = In::between;
  bool is_escaped_ = false;
  std::size_t depth_ = 0;  ///< In value_nested.
  std::string name_;       ///< The beginning of the last string, as it is written.
};

/// For "application/x-www-form-urlencoded" and what else is written as name=value&….
class FormSecrets : public SecretFilter {
 public:
  void feed(std::string_view piece, std::string& out) override;

 private:
  std::string name_;
  bool is_in_value_ = false;
  bool is_secret_ = false;
};

/// A "multipart/form-data" body with the parts left out whose names mean a secret; nullopt: it cannot be read, so none
/// of it may be told. `type` is the value of its Content-Type.
std::optional<std::string> upload_without_secrets(std::string_view type, std::string_view body);

}  // namespace porter::exchange
