// The fare calculator: a form, and its response to GET and POST. A compiled CGI program that uses nothing but the
// standard library, to show how little one needs.
#include <cstdlib>
#include <fstream>
#include <iostream>
#include <iterator>
#include <map>
#include <optional>
#include <sstream>
#include <string>
#include <utility>
#include <vector>

namespace {

using Row = std::map<std::string, std::string>;
using Form = std::map<std::string, std::string>;

std::string variable(const char* name) {
  const char* const value = std::getenv(name);
  return value == nullptr ? "" : value;
}

std::vector<std::string> split(const std::string& line, char separator) {
  std::vector<std::string> out;
  std::istringstream stream(line);
  for (std::string part; std::getline(stream, part, separator);) out.push_back(part);
  return out;
}

std::vector<Row> rows(const std::string& name) {
  std::ifstream file("../../data/" + name);
  std::string line;
  std::getline(file, line);
  const auto keys = split(line, ',');
  std::vector<Row> out;
  while (std::getline(file, line)) {
    const auto values = split(line, ',');
    Row row;
    for (std::size_t i = 0; i < keys.size() && i < values.size(); ++i) row[keys[i]] = values[i];
    out.push_back(row);
  }
  return out;
}

std::string decode(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '+') {
      out += ' ';
    } else if (text[i] == '%' && i + 2 < text.size()) {
      out += static_cast<char>(std::strtol(text.substr(i + 1, 2).c_str(), nullptr, 16));
      i += 2;
    } else {
      out += text[i];
    }
  }
  return out;
}

std::string escape(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '<') {
      out += "&lt;";
    } else if (c == '&') {
      out += "&amp;";
    } else if (c == '"') {
      out += "&quot;";
    } else {
      out += c;
    }
  }
  return out;
}

Form read_form() {
  std::string data = variable("QUERY_STRING");
  if (variable("REQUEST_METHOD") == "POST") {
    const auto length = static_cast<std::size_t>(std::strtoul(variable("CONTENT_LENGTH").c_str(), nullptr, 10));
    data.assign(length, '\0');
    std::cin.read(data.data(), static_cast<std::streamsize>(length));
    data.resize(static_cast<std::size_t>(std::cin.gcount()));
  }
  Form form;
  for (const std::string& pair : split(data, '&')) {
    const std::size_t equals = pair.find('=');
    if (equals != std::string::npos) form[decode(pair.substr(0, equals))] = decode(pair.substr(equals + 1));
  }
  return form;
}

/// A number from 0 to 99; 0 for anything else.
long count(const Form& form, const std::string& key) {
  const auto found = form.find(key);
  const long value = found == form.end() ? 0 : std::strtol(found->second.c_str(), nullptr, 10);
  return value < 0 || value > 99 ? 0 : value;
}

std::string money(long cents) {
  const std::string rest = std::to_string(cents % 100);
  return std::to_string(cents / 100) + "." + (rest.size() < 2 ? "0" : "") + rest + " ¤";
}

std::optional<Row> find_fare(const std::string& from, const std::string& to) {
  for (const Row& row : rows("fares.csv")) {
    const bool there = row.at("from") == from && row.at("to") == to;
    const bool back = row.at("from") == to && row.at("to") == from;
    if (there || back) return row;
  }
  return std::nullopt;
}

std::string select(const std::string& name, const std::string& chosen) {
  std::string out = "<select name=\"" + name + "\">";
  for (const Row& port : rows("ports.csv"))
    out += "<option value=\"" + port.at("code") + "\"" + (port.at("code") == chosen ? " selected" : "") + ">" +
           escape(port.at("name")) + "</option>";
  return out + "</select>";
}

std::string number_field(const std::string& name, const std::string& label, long value) {
  return "<label>" + label + "<input type=\"number\" name=\"" + name + "\" min=\"0\" max=\"99\" value=\"" +
         std::to_string(value) + "\"></label>";
}

}  // namespace

int main() {
  const Form form = read_form();
  const auto text = [&](const std::string& key, const std::string& otherwise) {
    const auto found = form.find(key);
    return found == form.end() ? otherwise : found->second;
  };
  const std::string from = text("from", "SKE");
  const std::string to = text("to", "MOR");
  const std::vector<std::pair<std::string, std::string>> kinds = {
      {"adult", "Adults"}, {"child", "Children"}, {"bicycle", "Bicycles"}, {"car", "Cars"}};

  std::cout
      << "Content-Type: text/html; charset=utf-8\r\n\r\n"
         "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Fares – Gull Sound Ferries</title>\n"
         "<link rel=\"stylesheet\" href=\"../style.css\"></head><body>\n"
         "<header class=\"banner\"><p class=\"brand\"><a href=\"../\">Gull Sound Ferries</a></p></header><main>\n"
         "<h1>Fares</h1>\n<form method=\"post\" action=\"fares\"><label>From "
      << select("from", from) << "</label><label>To " << select("to", to) << "</label>";
  for (const auto& [key, label] : kinds)
    std::cout << number_field(key, label, form.empty() && key == "adult" ? 1 : count(form, key));
  std::cout << "<button>Calculate</button></form>\n";

  const auto fare = find_fare(from, to);
  if (!fare) {
    std::cout << "<p class=\"notice warning\">There is no crossing from " << escape(from) << " to " << escape(to)
              << ".</p>\n";
  } else {
    long total = 0;
    std::cout << "<table><thead><tr><th>What</th><th class=\"number\">Number</th><th class=\"number\">Each</th>"
                 "<th class=\"number\">Together</th></tr></thead><tbody>\n";
    for (const auto& [key, label] : kinds) {
      const long each = std::strtol(fare->at(key).c_str(), nullptr, 10);
      const long number = form.empty() && key == "adult" ? 1 : count(form, key);
      total += each * number;
      std::cout << "<tr><td>" << label << "</td><td class=\"number\">" << number << "</td><td class=\"number\">"
                << (each == 0 ? "not carried" : money(each)) << "</td><td class=\"number\">" << money(each * number)
                << "</td></tr>\n";
    }
    std::cout << "</tbody></table>\n<p class=\"lead\">In all: <strong>" << money(total) << "</strong></p>\n";
  }
  std::cout << "</main></body></html>\n";
}
