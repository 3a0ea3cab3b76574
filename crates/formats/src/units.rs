//! Units as other standards name them, in UCUM.

/// The UCUM code of a unit that OpenMetrics names by its word; an annotation where there is no code for it.
pub fn of_word(word: &str) -> String {
    let code = match word {
        "seconds" => "s",
        "milliseconds" => "ms",
        "minutes" => "min",
        "hours" => "h",
        "days" => "d",
        "bytes" => "By",
        "bits" => "bit",
        "ratio" => "1",
        "percent" => "%",
        "celsius" => "Cel",
        "kelvin" => "K",
        "meters" | "metres" => "m",
        "centimeters" | "centimetres" => "cm",
        "millimeters" | "millimetres" => "mm",
        "liters" | "litres" => "L",
        "grams" => "g",
        "kilograms" => "kg",
        "volts" => "V",
        "amperes" => "A",
        "watts" => "W",
        "joules" => "J",
        "pascals" => "Pa",
        "hertz" => "Hz",
        other => return format!("{{{other}}}"),
    };
    code.to_owned()
}

/// The UCUM code of a unit of the SenML registry (RFC 8428, section 12.1, and RFC 8798); most are the same.
pub fn of_senml(unit: &str) -> String {
    let code = match unit {
        "/" => "1",
        "%RH" | "%EL" => "%",
        "EL" => "1",
        "EVL" => "s",
        "count" => "{count}",
        "beat/min" => "{beat}/min",
        "beats" => "{beat}",
        "l" => "L",
        "l/s" => "L/s",
        "delC" => "K",
        // Degrees of latitude are none of longitude.
        "lat" => "deg{lat}",
        "lon" => "deg{lon}",
        "pH" => "[pH]",
        "VA" => "V.A",
        "NTU" => "{NTU}",
        "1/min" => "/min",
        "bps" => "bit/s",
        "B" => "By",
        // Secondary units (RFC 8798).
        "Ah" => "A.h",
        "Wh" => "W.h",
        "kWh" => "kW.h",
        "kVA" => "kV.A",
        "VAh" => "V.A.h",
        "kVAh" => "kV.A.h",
        "Wh/km" => "W.h/km",
        "KiB" => "KiBy",
        "GB" => "GBy",
        "B/s" => "By/s",
        "MB/s" => "MBy/s",
        "ppm" => "[ppm]",
        "ppb" => "[ppb]",
        "ppt" => "[pptr]",
        "/100" => "%",
        "/1000" => "[ppth]",
        other => other,
    };
    code.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_of_other_standards_map_to_ucum() {
        let words = ["seconds", "bytes", "ratio", "celsius", "boats"].map(of_word);
        assert_eq!(words, ["s", "By", "1", "Cel", "{boats}"]);
        let senml = ["Cel", "%RH", "/", "count", "l/s", "m3/s"].map(of_senml);
        assert_eq!(senml, ["Cel", "%", "1", "{count}", "L/s", "m3/s"]);
        let registered = ["lat", "lon", "pH", "VA", "kWh", "Ah", "KiB", "GB", "B/s", "ppm", "ppb", "ppt", "/100", "/1000", "Wh/km", "1/min"];
        for unit in registered {
            assert_eq!(fenetre_core::units::describe_unknown(&of_senml(unit)), None, "{unit}");
        }
    }
}
