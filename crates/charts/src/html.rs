//! A report as one HTML file: its pictures are in it, and tell their values to a pointer. It needs nothing from elsewhere.

use std::fmt::Write;

use crate::report::{Block, Report};
use crate::svg::{FACES, escaped};

const STYLE: &str = "body{font-family:'Hollow Mile Sans','DejaVu Sans',Verdana,sans-serif;color:#22262e;background:#fff;\
max-width:1120px;margin:32px auto;padding:0 24px;font-size:15px;line-height:1.45}\
h1{font-size:26px;margin:0}h2{font-size:18px;margin:28px 0 8px}.below{color:#686e78;font-size:13px}\
.verdict{font-size:18px;font-weight:bold}table{border-collapse:collapse;margin:8px 0}\
td,th{text-align:left;vertical-align:top;padding:3px 18px 3px 0;border-bottom:1px solid #e2e5e9}\
figure{margin:20px 0}figure svg{max-width:100%;height:auto}figcaption{color:#686e78;font-size:13px}\
.spot:hover{fill:#105462;fill-opacity:.08}\
#told{position:fixed;display:none;background:#22262e;color:#fff;padding:5px 9px;font-size:13px;pointer-events:none;white-space:pre}";

/// Says at once what a spot says when a pointer has rested on it for a while.
const SCRIPT: &str = "const told=document.getElementById('told');\
document.addEventListener('mousemove',e=>{const s=e.target.closest&&e.target.closest('.spot');\
if(!s){told.style.display='none';return}\
if(!s.dataset.told){const t=s.querySelector('title');s.dataset.told=t.textContent;t.remove()}\
told.textContent=s.dataset.told;told.style.display='block';\
told.style.left=Math.min(e.clientX+14,innerWidth-told.offsetWidth-8)+'px';told.style.top=(e.clientY+16)+'px'});";

impl Report {
    /// The report as one HTML file.
    #[must_use]
    pub fn html(&self) -> String {
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
             <meta name=\"viewport\" content=\"width=device-width\">\n<title>{}</title>\n\
             <style>\n{FACES}{STYLE}\n</style>\n</head>\n<body>\n<h1>{0}</h1>\n<p class=\"below\">{}</p>\n",
            escaped(&self.title),
            escaped(&self.below)
        );
        let row = |cells: &[String], tag: &str| {
            let all: String = cells.iter().map(|c| format!("<{tag}>{}</{tag}>", escaped(c))).collect();
            format!("<tr>{all}</tr>\n")
        };
        for block in &self.blocks {
            // Writing to a String cannot fail.
            let _ = match block {
                Block::Heading(text) => writeln!(out, "<h2>{}</h2>", escaped(text)),
                Block::Text(text) => writeln!(out, "<p>{}</p>", escaped(text)),
                Block::Verdict(text) => writeln!(out, "<p class=\"verdict\">{}</p>", escaped(text)),
                Block::List(points) => {
                    let all: String = points.iter().map(|p| format!("<li>{}</li>\n", escaped(p))).collect();
                    writeln!(out, "<ul>\n{all}</ul>")
                }
                Block::Table { head, rows } => {
                    let all: String = rows.iter().map(|r| row(r, "td")).collect();
                    writeln!(out, "<table>\n{}{all}</table>", row(head, "th"))
                }
                Block::Picture(scene, caption) => {
                    let words = escaped(caption);
                    writeln!(
                        out,
                        "<figure>\n{}<figcaption>{words}</figcaption>\n</figure>",
                        scene.element("")
                    )
                }
            };
        }
        let _ = write!(out, "<div id=\"told\"></div>\n<script>{SCRIPT}</script>\n</body>\n</html>\n");
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plot::TEXT;
    use crate::scene::{Anchor, Scene};

    #[test]
    fn one_file_holds_all_and_words_from_outside_stay_words() {
        let mut scene = Scene::new(100.0, 50.0, "picture".into());
        scene.words((1.0, 9.0), "a < b", 9.0, TEXT, Anchor::Start);
        scene.spot((0.0, 0.0), (10.0, 50.0), "at 0: 1 & 2".into());
        let report = Report {
            title: "<script>alert(1)</script>".into(),
            below: "today".into(),
            blocks: vec![
                Block::Verdict("It holds & holds".into()),
                Block::List(vec!["<b>".into()]),
                Block::Table { head: vec!["figure".into()], rows: vec![vec!["1 < 2".into()]] },
                Block::Picture(scene, "how it \"went\"".into()),
            ],
        };
        let html = report.html();
        for words in [
            "&lt;script&gt;alert(1)",
            "It holds &amp; holds",
            "<li>&lt;b&gt;</li>",
            "<td>1 &lt; 2</td>",
            "<title>at 0: 1 &amp; 2</title>",
            "<figcaption>how it &quot;went&quot;</figcaption>",
        ] {
            assert!(html.contains(words), "{words} is missing");
        }
        // The one script is ours, and nothing is fetched.
        assert_eq!(html.matches("<script").count(), 1);
        let named = html.replace("http://www.w3.org/2000/svg", "");
        assert!(!named.contains("http") && !named.contains("src=\"") && !named.contains("@import"));
    }
}
